"""Benchmarks on generated data, each as a ratio against a baseline run in the same process (`make bench`)."""

from amber_lane.connectors import outside

# The practice world, and every partner that is made up here, stand on this machine.
outside.allow(("127.0.0.0/8", "::1/128"))
