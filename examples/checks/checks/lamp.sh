#!/bin/sh
# The lamp has a bulb.
echo "lamp: no bulb in the socket" >&2
exit 1
