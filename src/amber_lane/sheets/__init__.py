"""Sheets and documents, in and out."""
