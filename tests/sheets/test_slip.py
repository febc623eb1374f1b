"""Packing slips print every name that a buyer can have; what no font has is shown as such, not left out."""

from __future__ import annotations

from amber_lane.sheets.slip import shown_letters, slip_pdf

NAMES = [
    "Łucja Żak",
    "Ελένη Παππά",
    "Олена Шевченко",
    "יוסי כהן",
    "ليلى حداد",
    "สมชาย ใจดี",
    "王小明",
    "たかはし",
    "김민수",
    "Nguyễn Thị Hà",
]


def test_every_letter_is_embedded() -> None:
    made = slip_pdf("Our shop", "1001", NAMES, [(2, "Lampe für Zürich"), (1, "灯")], "שלום")
    assert made.startswith(b"%PDF") and len(made) < 400_000, "only the letters that are used go into the file"
    for font in ("NotoSans", "Hebrew", "Arabic", "Thai", "SC", "KR"):
        assert font.encode() in made, font


def test_what_no_font_has_is_not_left_out() -> None:
    assert shown_letters("Ꭰ Wren") == "[U+13A0] Wren" and slip_pdf("Shop", "1", ["Ꭰ"], [(1, "x")], "").startswith(b"%PDF")
