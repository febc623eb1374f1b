"""What stands on the pages of a PDF, as its reader sees it."""

from __future__ import annotations

import pytest

pdfium = pytest.importorskip("pypdfium2")


def texts(data: bytes) -> list[str]:
    """The words of each page, in one line."""
    with pdfium.PdfDocument(data) as document:
        return [" ".join(document[n].get_textpage().get_text_bounded().split()) for n in range(len(document))]
