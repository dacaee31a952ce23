"""Tests of the drip lines."""

import fernhost as fern
import valves


@fern.test("quick")
def opens_one(t):
    valves.close_all()
    t.equal("open valves", valves.open_valve(3), 1)
    valves.close_all()


@fern.test("quick valve")
def soaks_the_ferns(t):
    """Leaves its valve open, which others may trip over."""
    t.equal("open valves", valves.open_valve(7), len(valves.opened))


@fern.test("valve")
def counts_from_nothing(t):
    t.equal("open valves", valves.open_valve(1), 1)
    valves.close_all()


@fern.test(expect_fail="the second pump is away")
def pumps_twice(t):
    assert False, "no second pump"


@fern.test()
def waters_every_bed(t):
    for bed in ("mosses", "orchids"):
        t.step(bed, lambda: t.true("it is wet", bed))
    print("all beds are wet")


@fern.test()
def needs_frost(t):
    t.skip("it is summer")


@fern.test()
def reads_a_gauge(t):
    {}["gauge"]
