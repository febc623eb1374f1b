"""The demo scenario: a living business, made from a seed against the practice world."""
