import prices


def test_euro():
    assert prices.converted(7, "euro") == 7


def test_new_rate():  # leaves what was cached at the other rate
    old, prices.rates["crown"] = prices.rates["crown"], 12
    try:
        assert prices.converted(5, "crown") == 60
    finally:
        prices.rates["crown"] = old


def test_two_currencies():
    assert sorted(prices.rates) == ["crown", "euro"]


def test_five_in_crowns():
    assert prices.converted(5, "crown") == 55


def test_nothing():
    assert prices.converted(0, "crown") == 0


def test_rates_are_whole():
    assert all(isinstance(r, int) for r in prices.rates.values())


def test_a_crown_is_small():
    assert prices.rates["crown"] > prices.rates["euro"]


def test_big_sums():
    assert prices.converted(10**6, "euro") == 10**6


def test_rates_are_positive():
    assert min(prices.rates.values()) > 0


def test_one_is_the_rate():
    assert prices.rates["euro"] == 1
