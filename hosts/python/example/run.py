"""Serves the example's tests."""

import os
import sys

sys.path[:0] = [os.path.dirname(os.path.abspath(__file__)), os.path.join(os.path.dirname(os.path.abspath(__file__)), "..")]

import fernhost  # noqa: E402
import valves  # noqa: E402
import drip  # noqa: E402,F401

fernhost.watch(valves)
fernhost.serve("garden in Python")
