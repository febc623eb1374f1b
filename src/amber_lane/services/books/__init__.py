"""Books: the journal of all money, what stores and suppliers really took, profit by anything, and why it changed."""

# Whatever part changes an order's money, the journal follows: it enters itself for that when any of this is loaded.
from . import following as following
