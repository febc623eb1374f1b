"""The use cases by noun. A service takes a desk (session, clock, who), flushes, and never commits."""
