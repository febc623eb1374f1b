"""The use cases, a package for each part of the work. A service takes a context (session, clock, actor), flushes, and never commits."""
