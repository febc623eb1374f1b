"""SQLAlchemy tables by noun, column types, sessions and migrations."""
