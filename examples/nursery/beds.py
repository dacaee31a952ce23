"""The beds of the nursery and what grows in them."""

plan = {"north": ["moss", "fern"], "south": ["orchid"]}


def plants():
    return sum(len(row) for row in plan.values())


def rows():
    return sorted(plan)
