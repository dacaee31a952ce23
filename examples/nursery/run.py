# Serves the plain tests of this folder to Fern Relay. A project of its own has fernhost.py beside this file.
import os
import sys

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "..", "hosts", "python"))
import fernhost

fernhost.serve("nursery", "test_*.py")
