"""What plants cost."""
import decimal
import functools

TABLE = {"moss": "1.50", "fern": "4.25", "orchid": "12.00"}


def price(plant):
    return decimal.Decimal(TABLE[plant])


def bill(*plants):
    return sum((price(p) for p in plants), decimal.Decimal(0))


def share(total, parts):
    return decimal.Decimal(total) / parts


rates = {"euro": 1, "crown": 11}


@functools.lru_cache(maxsize=None)
def converted(amount, currency):
    return amount * rates[currency]
