"""Benchmarks on generated data, each as a ratio against a baseline run in the same process (`make bench`)."""
