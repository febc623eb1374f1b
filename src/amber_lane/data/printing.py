"""What is printed for each order: blanks of print houses, artwork with its versions, where it lies, and what was sent to be printed."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import CheckConstraint, ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from .base import Row, Versioned, part


class Blank(Versioned):
    """A thing that a house prints on, as the house tells it. terms: `BlankTerms` as data; ended_at: the house tells it no more."""

    __tablename__ = "blank"
    __table_args__ = (UniqueConstraint("supplier_id", "code"),)
    supplier_id: Mapped[int] = mapped_column(ForeignKey("supplier.id"))
    code: Mapped[str]
    name: Mapped[str]
    kind: Mapped[str]
    terms: Mapped[dict[str, Any]]
    seen_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]


class ArtFile(Row):
    """Bytes of artwork, or made from it for a house; the same are kept once. sha: SHA-256; width, height: in pixels, 0 of an SVG."""

    __tablename__ = "art_file"
    sha: Mapped[str] = mapped_column(unique=True)
    kind: Mapped[str]
    width: Mapped[int]
    height: Mapped[int]
    data: Mapped[bytes]


class Artwork(Versioned):
    """A drawing that is printed; its versions are what is printed of it."""

    __tablename__ = "artwork"
    name: Mapped[str] = mapped_column(unique=True)
    made_at: Mapped[datetime]
    removed_at: Mapped[datetime | None]


class ArtVersion(Row):
    """One version of an artwork. ground: what it is for: any, light or dark cloth, or one `colour`. replaced_at: another took its place.

    file_id: as it was given, checked and made anew; sight_id: at most a megapixel of it, by which it is judged. width, height: the shape of
    it, in pixels (of an SVG, of its own units); vector: it is as sharp as is wanted.
    """

    __tablename__ = "art_version"
    __table_args__ = (
        Index("uq_art_version_now", "artwork_id", "ground", "colour", unique=True, **part("replaced_at is null")),
        CheckConstraint("ground in ('any','light','dark','colour')", name="ground"),
    )
    artwork_id: Mapped[int] = mapped_column(ForeignKey("artwork.id"))
    ground: Mapped[str]
    colour: Mapped[str] = mapped_column(default="")
    file_id: Mapped[int] = mapped_column(ForeignKey("art_file.id"))
    sight_id: Mapped[int] = mapped_column(ForeignKey("art_file.id"))
    width: Mapped[int]
    height: Mapped[int]
    vector: Mapped[bool] = mapped_column(default=False)
    made_at: Mapped[datetime]
    replaced_at: Mapped[datetime | None]


class PrintDesign(Versioned):
    """An artwork on a blank of the main house. size: the one that it was placed on; keep: the same millimetres on all sizes, or in
    proportion; left_out: colours that a person does not want; spares: numbers of other houses' blanks that stand in."""

    __tablename__ = "print_design"
    __table_args__ = (CheckConstraint("keep in ('millimetres','proportion')", name="keep"),)
    name: Mapped[str]
    artwork_id: Mapped[int] = mapped_column(ForeignKey("artwork.id"))
    blank_id: Mapped[int] = mapped_column(ForeignKey("blank.id"))
    size: Mapped[str]
    keep: Mapped[str] = mapped_column(default="proportion")
    left_out: Mapped[list[Any]] = mapped_column(default=list)
    spares: Mapped[list[Any]] = mapped_column(default=list)
    # Pictures made of it: "colour|side" -> (what it was made from, picture).
    pictures: Mapped[dict[str, Any]] = mapped_column(default=dict)
    made_at: Mapped[datetime]
    removed_at: Mapped[datetime | None]


class PrintPlace(Row):
    """Where a design's artwork lies on a side of its size: hundredths of a millimetre from the area's top left corner."""

    __tablename__ = "print_place"
    __table_args__ = (UniqueConstraint("design_id", "side"),)
    design_id: Mapped[int] = mapped_column(ForeignKey("print_design.id"))
    side: Mapped[str]
    x: Mapped[int]
    y: Mapped[int]
    w: Mapped[int]


class LanePrint(Row):
    """What a lane prints on one side of its item, and what the checks say of it. Places as in `PrintPlace`.

    version_id: the version that reads best on the cloth; file_id, preview_id: made for its house, None until they are (or where it may not
    be printed). readable in tenths of a percent; outcome: ok, soft or refused; fault: why it is refused (core.print_choice.PrintFault).
    """

    __tablename__ = "lane_print"
    __table_args__ = (
        UniqueConstraint("lane_id", "item_id", "side"),
        Index("ix_lane_print_artwork_id", "artwork_id"),
        Index("ix_lane_print_sku_id", "sku_id"),
        Index("ix_lane_print_refused", "lane_id", **part("outcome = 'refused'")),
        CheckConstraint("outcome in ('','ok','soft','refused')", name="outcome"),
    )
    lane_id: Mapped[int] = mapped_column(ForeignKey("lane.id"))
    item_id: Mapped[int] = mapped_column(ForeignKey("item.id"))
    sku_id: Mapped[int] = mapped_column(ForeignKey("sku.id"))
    design_id: Mapped[int | None] = mapped_column(ForeignKey("print_design.id"))
    artwork_id: Mapped[int] = mapped_column(ForeignKey("artwork.id"))
    blank_id: Mapped[int] = mapped_column(ForeignKey("blank.id"))
    colour: Mapped[str]
    size: Mapped[str]
    side: Mapped[str]
    x: Mapped[int]
    y: Mapped[int]
    w: Mapped[int]
    h: Mapped[int] = mapped_column(default=0)
    version_id: Mapped[int | None] = mapped_column(ForeignKey("art_version.id"))
    dpi: Mapped[int] = mapped_column(default=0)
    readable: Mapped[int] = mapped_column(default=0)
    outcome: Mapped[str] = mapped_column(default="")
    fault: Mapped[str] = mapped_column(default="")
    file_id: Mapped[int | None] = mapped_column(ForeignKey("art_file.id"))
    preview_id: Mapped[int | None] = mapped_column(ForeignKey("art_file.id"))


class PurchasePrint(Row):
    """What was sent to be printed for a line of a purchase, or for a sample; it stays whatever becomes of the artwork."""

    __tablename__ = "purchase_print"
    __table_args__ = (Index("ix_purchase_print_line_id", "line_id"), Index("ix_purchase_print_sample_id", "sample_id"))
    line_id: Mapped[int | None] = mapped_column(ForeignKey("purchase_line.id"))
    sample_id: Mapped[int | None] = mapped_column(ForeignKey("sample.id"))
    side: Mapped[str]
    version_id: Mapped[int] = mapped_column(ForeignKey("art_version.id"))
    file_id: Mapped[int] = mapped_column(ForeignKey("art_file.id"))
    preview_id: Mapped[int] = mapped_column(ForeignKey("art_file.id"))
    x: Mapped[int]
    y: Mapped[int]
    w: Mapped[int]
    h: Mapped[int]
    # The house's own picture of it, and how much of it looks otherwise, in tenths of a percent.
    proof_id: Mapped[int | None] = mapped_column(ForeignKey("art_file.id"))
    differs: Mapped[int | None]
