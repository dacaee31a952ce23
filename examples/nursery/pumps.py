"""Pumps, and the settings that all of them share."""
import logging
import time

log = logging.getLogger("nursery.pumps")


class Settings:
    def __init__(self):
        self.unit = "litres"
        self.limit = 40


settings = Settings()


class Pump:
    def __init__(self):
        self.pumped = 0

    def run(self, litres):
        if litres > settings.limit:
            log.warning("too much: %d", litres)
            litres = settings.limit
        self.pumped += litres
        return self.pumped

    def label(self):
        return "%d %s" % (self.pumped, settings.unit)


def started():
    return time.time()
