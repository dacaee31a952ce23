#!/bin/sh
# The door is closed.
exit 0
