"""The valves of a garden, of which there is one set for all."""

opened = []


def open_valve(number):
    opened.append(number)
    return len(opened)


def close_all():
    opened.clear()
