"""The computation: pure functions on values and NumPy columns. No I/O and no clock."""
