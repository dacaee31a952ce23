import beds


def test_rows():
    assert beds.rows() == ["north", "south"]


def test_north_has_moss():
    assert "moss" in beds.plan["north"]


def test_plants_a_palm():  # leaves it in the plan
    beds.plan["north"].append("palm")
    assert "palm" in beds.plan["north"]


def test_south_has_orchids():
    assert beds.plan["south"] == ["orchid"]


def test_counts_plants():
    assert beds.plants() == 3


def test_names_are_words():
    assert all(p.isalpha() for row in beds.plan.values() for p in row)


def test_rows_are_lists():
    assert all(isinstance(row, list) for row in beds.plan.values())


def test_no_row_is_empty():
    assert all(beds.plan.values())


def test_rows_are_sorted():
    assert beds.rows() == sorted(beds.rows())


def test_there_is_a_fern():
    assert any("fern" in row for row in beds.plan.values())
