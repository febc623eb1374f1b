"""Files that people and programs hand in: opened and looked at before any transaction begins, so that none keeps anybody waiting.

Named before the context in an endpoint's parameters, since they are made in that order.
"""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, File, UploadFile

from ..services.books import statements
from ..services.listings import images
from ..services.printing import files as artwork_files
from ..services.purchasing import po_documents
from ..sheets.opened import BYTES_MAX, readable
from ..sheets.ubl import BYTES_MAX as DOCUMENT_MAX
from ..sheets.ubl import Answer
from ..sheets.ubl_invoice import Charged
from .deps import signed_in


def sheet(_: Annotated[int, Depends(signed_in)], file: Annotated[UploadFile, File()]) -> bytes:
    """A sheet, already opened where it has to be."""
    return readable(file.file.read(BYTES_MAX + 1))


def picture(_: Annotated[int, Depends(signed_in)], file: Annotated[UploadFile, File()]) -> images.Made:
    """A picture, already made anew."""
    return images.check(file.file.read(images.BYTES_MOST + 1))


def evidence(_: Annotated[int, Depends(signed_in)], file: Annotated[UploadFile, File()]) -> list[images.Made]:
    """A picture, or the first pages of a PDF, already made anew."""
    return images.evidence(file.file.read(images.BYTES_MOST + 1))


def document(_: Annotated[int, Depends(signed_in)], file: Annotated[UploadFile, File()]) -> list[Answer]:
    """What a UBL document says, not yet looked up here."""
    return po_documents.read(file.file.read(DOCUMENT_MAX + 1))


def invoice(_: Annotated[int, Depends(signed_in)], file: Annotated[UploadFile, File()]) -> Charged:
    """What a UBL invoice charges, not yet looked up here."""
    return statements.read_invoice(file.file.read(DOCUMENT_MAX + 1))


def art(_: Annotated[int, Depends(signed_in)], file: Annotated[UploadFile, File()]) -> artwork_files.Given:
    """Artwork, already checked and made anew."""
    return artwork_files.check(file.file.read(artwork_files.BYTES_MOST + 1))


ArtworkFile = Annotated[artwork_files.Given, Depends(art)]
InvoiceFile = Annotated[Charged, Depends(invoice)]
SheetFile = Annotated[bytes, Depends(sheet)]
EvidenceFile = Annotated[list[images.Made], Depends(evidence)]
PictureFile = Annotated[images.Made, Depends(picture)]
DocumentFile = Annotated[list[Answer], Depends(document)]
