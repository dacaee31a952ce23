import decimal

import prices


def test_moss():
    assert str(prices.price("moss")) == "1.50"


def test_free_day():  # leaves another function
    prices.price = lambda plant: decimal.Decimal(0)
    assert prices.bill("orchid", "fern") == 0


def test_orchids_are_dearer():
    assert decimal.Decimal(prices.TABLE["orchid"]) > decimal.Decimal(prices.TABLE["fern"])


def test_bill_adds_up():
    assert prices.bill("moss", "fern") == decimal.Decimal("5.75")


def test_empty_bill():
    assert prices.bill() == 0


def test_rounded_share():  # leaves the precision
    decimal.getcontext().prec = 3
    assert str(prices.share(10, 3)) == "3.33"


def test_all_have_prices():
    assert all(prices.TABLE.values())


def test_share_is_exact():
    assert str(prices.share(10, 3)).startswith("3.33333")


def test_half():
    assert prices.share(3, 2) == decimal.Decimal("1.5")


def test_table_has_three():
    assert len(prices.TABLE) == 3
