import logging
import time

import pumps


def test_pumps():
    assert pumps.Pump().run(3) == 3


def test_gallons():  # leaves the unit
    pumps.settings.unit = "gallons"
    assert "gallons" in pumps.Pump().label()


def test_label():
    assert pumps.Pump().label() == "0 litres"


def test_broken_pump():  # leaves another method
    pumps.Pump.run = lambda self, litres: 0
    assert pumps.Pump().run(9) == 0


def test_limit():
    assert pumps.settings.limit == 40


def test_pump_stops_at_the_limit():
    assert pumps.Pump().run(99) == 40


def test_quiet():  # leaves the level of the log
    pumps.log.setLevel(logging.CRITICAL)
    pumps.Pump().run(99)


def test_frozen_clock():  # leaves a clock that does not go
    time.time = lambda: 1.0
    assert pumps.started() == 1.0


def test_warnings_are_logged():
    assert pumps.log.isEnabledFor(logging.WARNING)


def test_clock_goes():
    assert pumps.started() > 10**9
