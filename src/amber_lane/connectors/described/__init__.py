"""Partners that are described, not programmed: one file says how a partner is spoken to, and it is carried out here."""
