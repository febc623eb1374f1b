"""From preparation to the store and back: what is missing is said, words go once and in order, nothing is overwritten unasked."""

from __future__ import annotations

import io
import zlib
from typing import Any

import pytest
from PIL import Image
from sqlalchemy import select, update

from amber_lane.connectors.protocols import StoreListing
from amber_lane.data.lanes import Lane
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import Store
from amber_lane.data.shelf import Listing, Picture
from amber_lane.services.activity import undo
from amber_lane.services.alerts import today
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.delivery import effects
from amber_lane.services.listings import allowance, content_rule_changes, content_rules, images, publishing, store_listings, titles

from ...small import Small


@pytest.fixture
def two(small: Small) -> Small:
    """A second store with copies of three listings in preparation; nothing waits in the outbox."""

    def make(context: Any) -> None:
        small.second_store(context.session)
        publishing.copy(context, [1, 2, 3], 2, True)

    small.respond()
    small.write(make)
    confirm(small)
    return small


def confirm(small: Small) -> list[dict[str, Any]]:
    """The stores take everything that waits. Returns what they were told, in order."""
    told = []

    def do(context: Any) -> None:
        for row in context.session.scalars(select(Outbox).where(Outbox.state == "waiting").order_by(Outbox.id)).all():
            row.state = "done"
            told.append(row.body)
            effects.follow(context, [(row, None)])

    small.write(do)
    return told


def copies(small: Small) -> list[Listing]:
    return small.all(select(Listing).where(Listing.store_id == 2).order_by(Listing.id))


def publish(small: Small, *ids: int) -> publishing.Published:
    return small.write(lambda context: publishing.publish(context, ids))


def test_publishing_sends_words_price_and_quantity_of_now(two: Small) -> None:
    rows = copies(two)
    two.sweep({1: (130, 20)})
    confirm(two)
    done = publish(two, *(row.id for row in rows))
    assert done.sent == [row.id for row in rows] and not done.refused
    told = confirm(two)
    assert [(body["listing"], body["words"]["title"], body["state"]) for body in told] == [(r.id, r.title, "live") for r in rows]
    ours = two.listing(1)
    assert told[0]["price"] == f"{ours.wanted_price / 100:.2f}" and told[0]["quantity"] > 0
    assert {(row.words_due, row.shown_state) for row in copies(two)} == {(False, "live")}
    assert publish(two, rows[0].id).refused == {rows[0].id: "it is on sale already"}


def test_words_are_never_lost_to_a_newer_price(two: Small) -> None:
    row = copies(two)[0]
    publish(two, row.id)
    two.sweep({1: (130, 9)})
    letters = two.all(select(Outbox).where(Outbox.subject == f"listing:{row.id}").order_by(Outbox.id))
    assert [one.state for one in letters] == ["dropped", "waiting"] and letters[-1].body["words"]["title"] == row.title
    confirm(two)
    two.sweep({1: (170, 9)})
    assert "words" not in two.all(select(Outbox.body).where(Outbox.subject == f"listing:{row.id}", Outbox.state == "waiting"))[0]


def test_what_is_missing_is_said_before_and_nothing_is_sent(two: Small) -> None:
    one, other, third = copies(two)

    def spoil(context: Any) -> None:
        store = context.session.get(Store, 2)
        store.title_most, store.banned_words = 12, ["cheap"]
        context.session.execute(update(Listing).where(Listing.id == one.id).values(title="A cheap thing of Supply House"))
        context.session.execute(update(Lane).where(Lane.sku_id == 2).values(state="shut"))
        context.session.execute(update(Lane).where(Lane.sku_id == 3).values(closed_at=context.now))

    two.write(spoil)
    refused = publish(two, one.id, other.id, third.id).refused
    assert "29 letters" in refused[one.id] and "'cheap'" in refused[one.id] and "'Supply House'" in refused[one.id]
    assert refused[other.id] == "its lane is shut" and "no lane" in refused[third.id]
    assert not two.all(select(Outbox).where(Outbox.target == "store:2"))


def test_a_refused_listing_remembers_why_and_goes_again_alone(two: Small) -> None:
    row = copies(two)[0]
    publish(two, row.id)

    def refuse(context: Any) -> None:
        letter = context.session.scalars(select(Outbox).where(Outbox.subject == f"listing:{row.id}", Outbox.state == "waiting")).one()
        letter.state = "dead"
        effects.failed(context, [(letter, "its group is closed")])

    two.write(refuse)
    assert copies(two)[0].message == "its group is closed"
    assert two.write(lambda context: publishing.send_again(context, [r.id for r in copies(two)])) == 1
    assert confirm(two)[-1]["words"]["title"] == row.title and copies(two)[0].message == ""


def test_undoing_a_publishing_that_has_not_gone_out_tells_the_store_nothing(two: Small) -> None:
    row = copies(two)[0]
    publish(two, row.id)
    two.write(lambda context: undo.undo(context, two.act("listing.publish").id))
    assert copies(two)[0].state == "preparing" and confirm(two) == []
    publish(two, row.id)
    confirm(two)
    two.write(lambda context: undo.undo(context, two.act("listing.publish").id))
    assert copies(two)[0].state == "preparing" and [(b["state"], b["quantity"]) for b in confirm(two)] == [("ended", 0)]


def test_changed_words_go_to_the_store_and_to_copies_that_follow(two: Small) -> None:
    publish(two, copies(two)[0].id)
    confirm(two)
    script = '<p onclick="x()">Bright<script>alert(1)</script></p><a href="https://x.example">here</a><img src=x onerror=y>'
    two.write(lambda context: publishing.edit(context, 1, None, {"title": "Better thing", "description": script}))
    told = {body["listing"]: body["words"] for body in confirm(two)}
    assert set(told) == {1, copies(two)[0].id} and {words["title"] for words in told.values()} == {"Better thing"}
    assert {words["description"] for words in told.values()} == {"<p>Bright</p>here"}
    with pytest.raises(Invalid, match="letters"):
        two.write(lambda context: publishing.edit(context, 1, None, {"title": "x" * 300}))
    with pytest.raises(Invalid, match="above the price"):
        two.write(lambda context: publishing.edit(context, 1, None, {"compare_at": 1}))


def test_what_a_store_shows_otherwise_is_settled_field_by_field(two: Small) -> None:
    ours = two.listing(1)
    shown = StoreListing("S-1", "Their title", ours.wanted_price, "GBP", 5, "live", description="<i>Theirs</i><script>x</script>")
    two.write(lambda context: store_listings.bring_in(context, context.session.get(Store, 1), [shown]))
    assert two.listing(1).title == ours.title and two.listing(1).theirs == {"title": "Their title", "description": "<i>Theirs</i>"}
    two.write(lambda context: publishing.answer_difference(context, 1, two.listing(1).version, "description", True))
    two.write(lambda context: publishing.answer_difference(context, 1, two.listing(1).version, "title", False))
    row = two.listing(1)
    assert (row.title, row.description, row.theirs) == (ours.title, "<i>Theirs</i>", None)
    assert confirm(two)[-1]["words"]["title"] == ours.title
    with pytest.raises(Conflict):
        two.write(lambda context: publishing.answer_difference(context, 1, row.version + 1, "title", True))


def test_phrases_are_whole_words_and_seen_before(two: Small) -> None:
    with two.db.reading() as s:
        found, of = content_rule_changes.effect(two.context(s), "THING", "lamp", None)
        assert (len(found), of) == (9, 9) and found[0][2:] == ("Thing 1", "lamp 1")
        assert content_rule_changes.effect(two.context(s), "thin", "x", None)[0] == []
        cleaner = content_rules.Cleaner(two.context(s), s.get(Store, 2))
        assert cleaner.title("lamp (Supply House), supply  house, red") == "Lamp, red"
    assert two.write(lambda context: content_rule_changes.add_rule(context, "Thing", "", 2)) == 3
    with pytest.raises(Conflict):
        two.write(lambda context: content_rule_changes.add_rule(context, "Thing", "other", 2))
    assert [row.title for row in copies(two)] == ["1", "2", "3"] and two.listing(1).title == "Thing 1"


def test_a_title_is_suggested_in_the_order_that_the_store_likes(two: Small) -> None:
    def make(context: Any) -> str:
        store, row = context.session.get(Store, 2), copies(two)[0]
        titles.set_words(context, 2, 40, ["Best ", "best"], ["brand", "what"])
        from amber_lane.data.shelf import Sku

        sku = context.session.get(Sku, row.sku_id)
        sku.brand, sku.options = "Skerry", "navy, 42 cm"
        return titles.suggest(context, store, sku, "Skerry field stool (navy, 42 cm)")

    assert two.write(make) == "Skerry, field stool, navy, 42 cm"
    assert two.all(select(Store.banned_words).where(Store.id == 2)) == [["best"]]


def picture(width: int = 300, height: int = 300, kind: str = "PNG") -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (width, height), "navy").save(out, kind)
    return out.getvalue()


def bomb() -> bytes:
    """A PNG whose head promises 30,000 x 30,000 points in a few bytes."""

    def chunk(name: bytes, data: bytes) -> bytes:
        return len(data).to_bytes(4, "big") + name + data + zlib.crc32(name + data).to_bytes(4, "big")

    head = (30_000).to_bytes(4, "big") * 2 + bytes([8, 2, 0, 0, 0])
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0" * 90_000)) + chunk(b"IEND", b"")


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (b"", "not a picture"),
        (b"<svg xmlns='http://www.w3.org/2000/svg'><script/></svg>", "not a picture"),
        (b"GIF89a\x01\x00\x01\x00\x00\x00\x00;", "not a picture"),
        (picture()[:120], "not a picture"),
        (bomb(), "not a picture|40 million"),
        (picture(90, 400), "200 at least"),
        (b"\xff\xd8\xff" + b"\0" * 15_000_001, "15 MB"),
    ],
    ids=["empty", "drawing", "moving", "torn", "bomb", "small", "large"],
)
def test_what_is_no_picture_is_refused_before_anything_is_kept(two: Small, data: bytes, told: str) -> None:
    with pytest.raises(Invalid, match=told):
        two.write(lambda context: images.add(context, 1, images.check(data)))
    assert not two.all(select(Picture.id))


def test_a_picture_is_kept_once_as_our_own_and_without_what_was_hidden_in_it(two: Small) -> None:
    hidden = picture(2600, 400, "JPEG") + b"PK\x03\x04 and a whole archive behind it"
    first = two.write(lambda context: images.add(context, 1, images.check(hidden)))
    assert (first.kind, first.width) == ("image/jpeg", 2000) and b"archive" not in first.data
    assert two.write(lambda context: images.add(context, 2, images.check(hidden))).id == first.id
    two.write(lambda context: publishing.edit(context, 1, None, {"pictures": [first.id]}))
    assert confirm(two)[-1]["words"]["pictures"] == [first.id]


def test_an_allowance_shows_what_earns_most_and_can_be_undone(two: Small) -> None:
    with pytest.raises(Invalid, match="no limit"), two.db.reading() as s:
        allowance.plan(two.context(s), 1)
    two.write(lambda context: context.session.execute(update(Store).where(Store.id == 1).values(allowance_units=9, allowance_listings=3)))
    with two.db.reading() as s:
        made = allowance.plan(two.context(s), 1, 24)
    assert (made.units, made.listings, made.listings_now) == (9, 3, 6) and made.worth + made.gap >= made.worth > 0
    before = {row.id: (row.wanted_quantity, row.state) for row in two.all(select(Listing).where(Listing.store_id == 1))}
    two.write(lambda context: allowance.apply(context, 1, 24))
    after = two.all(select(Listing).where(Listing.store_id == 1))
    assert sum(row.wanted_quantity for row in after if row.state == "live") == 9
    assert sorted(row.most for row in after)[:3] == [0, 0, 0] and sum(row.state == "live" for row in after) == 3
    two.sweep({n: (n * 100, 30) for n in range(1, 7)})
    assert sum(row.wanted_quantity for row in two.all(select(Listing).where(Listing.store_id == 1, Listing.state == "live"))) == 9
    with pytest.raises(Conflict, match="already"):
        two.write(lambda context: allowance.apply(context, 1, 24))
    two.write(lambda context: undo.undo(context, two.act("allowance.apply").id))
    assert {row.most for row in two.all(select(Listing).where(Listing.store_id == 1))} == {None} and set(before) == {r.id for r in after}


def test_more_asked_of_a_store_than_it_takes_is_told_before_it_refuses(two: Small) -> None:
    """By hand where the store tells nothing: units, listings and value, each alone."""
    rows = [row for row in two.all(select(Listing).where(Listing.store_id == 1)) if row.state == "live" and row.wanted_quantity]
    asked = {
        "units": sum(row.wanted_quantity for row in rows),
        "listings": len(rows),
        "value": sum(row.wanted_quantity * row.wanted_price for row in rows),
    }
    for what, n in asked.items():
        for most, over in ((n, False), (n - 1, True)):
            version = two.all(select(Store.version).where(Store.id == 1))[0]
            limits = [most if what == name else None for name in asked]
            two.write(lambda context, v=version, ls=limits: allowance.set_limits(context, 1, v, *ls))
            with two.db.reading() as s:
                found = [one for one in today.open_alerts(two.context(s)) if one.kind == "Allowance"]
                told = allowance.over(two.context(s))
            assert bool(found) is over is bool(told)
            if told:
                assert (told[0].what, told[0].asked, told[0].most) == (what, n, n - 1) and told[0].loss > 0 and found[0].at_risk > 0
