"""Files on servers without any server: whatever lies there, grows and goes, each content is fetched once, whole, and never an older one."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st
from sqlalchemy import select

from amber_lane.connectors.file_servers.protocol import BYTES_MOST, RemoteFile
from amber_lane.data.files import FileCame, FileRule, FileServer
from amber_lane.data.outbox import Job
from amber_lane.data.setup import Inbox, Supplier
from amber_lane.services.base.context import Context
from amber_lane.services.base.errors import Conflict, Invalid
from amber_lane.services.files import arrivals, rules
from amber_lane.services.files.rules import Said

from ...small import START, Small

STOCK = Said(1, "supplier", 1, "stock", False, "out/stock-{year}{month}{day}*.csv")


@pytest.fixture
def shelf(small: Small) -> Small:
    """The supplier works by sheets, and there is a server that they lie on."""

    def make(context: Context) -> None:
        context.get(Supplier, 1, "supplier").kind = "sheet"
        context.session.add_all([FileServer(id=1, name="Their files", kind="sftp"), FileServer(id=2, name="Their page", kind="pages")])
        context.session.flush()

    small.write(make)
    return small


def rule(shelf: Small, said: Said = STOCK, leave_old: bool = False) -> int:
    return int(shelf.write(lambda context: rules.add(context, said, leave_old).id))


def file(day: int, size: int, written: float = 0) -> RemoteFile:
    return RemoteFile(f"out/stock-202603{day:02}.csv", size, START + timedelta(seconds=written))


def look(shelf: Small, number: int, lying: list[RemoteFile]) -> list[str]:
    """One look at a server on which these lie; the paths of what was fetched."""

    def do(context: Context) -> list[str]:
        row = context.get(FileRule, number, "rule")
        out = []
        for came in arrivals.seen(context, row, lying):
            arrivals.fetched(context, came.id, Path("/nowhere") / f"{came.id}.csv")
            out.append(f"{came.path}:{came.size}")
        return out

    return list(shelf.write(do))


def states(shelf: Small) -> list[tuple[str, str]]:
    return [(row.path[-6:-4], str(row.state)) for row in shelf.all(select(FileCame).order_by(FileCame.id))]


# A day's file is written or grows (by its size), or is taken away; then so many seconds go by until the next look.
MOVES = st.lists(st.tuples(st.integers(1, 5), st.integers(0, 3), st.sampled_from([10, 40, 700])), min_size=1, max_size=14)


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(moves=MOVES, newest=st.booleans(), tells=st.sampled_from([1, 60]))
@example(moves=[(2, 1, 10), (3, 1, 10), (3, 0, 10), (1, 1, 10)], newest=True, tells=1)
@example(moves=[(1, 1, 10), (1, 0, 40), (1, 1, 10)], newest=False, tells=60)
def test_each_content_is_fetched_once_when_it_stood_still_and_of_the_newest_none_older_follows(
    shelf: Small, moves: list[tuple[int, int, int]], newest: bool, tells: int
) -> None:
    """tells: how many seconds the ages of two files must be apart for their server to tell them apart."""

    def told(at: float) -> float:
        return at - at % tells

    number = rule(shelf, Said(**{**vars(STOCK), "newest": newest}))
    # Of each day: how many bytes, and since when.
    lying: dict[int, tuple[int, float]] = {}
    now, fetched = 0.0, list[tuple[int, tuple[int, float]]]()
    for day, size, wait in [*moves, (1, -1, 40), (1, -1, 40), (1, -1, 40)]:
        if size == 0:
            lying.pop(day, None)
        elif size > 0 and lying.get(day, (0,))[0] != size:
            lying[day] = (size, now)
        for one in look(shelf, number, [file(at, many, told(since)) for at, (many, since) in lying.items()]):
            at, many = int(one[-8:-6]), int(one.rpartition(":")[2])
            assert lying[at][0] == many and now - lying[at][1] >= 30, "half a file was fetched"
            fetched.append((at, (many, told(lying[at][1]))))
        now += wait
        shelf.later(seconds=wait)
    if newest:
        days = [at for at, _ in fetched]
        assert days == sorted(days), "an older file was taken after a newer one"
        assert not lying or not fetched or max(days) >= max(lying)
    else:
        assert {(at, (size, told(since))) for at, (size, since) in lying.items()} <= set(fetched), "what lies there at the end is here"
    assert len(set(fetched)) == len(fetched)
    shelf.write(lambda context: rules.remove(context, number, context.get(FileRule, number, "rule").version))
    assert shelf.all(select(FileCame)) == []


def test_what_was_there_before_us_is_left_and_a_file_that_is_too_large_is_told(shelf: Small) -> None:
    number = rule(shelf, leave_old=True)
    assert look(shelf, number, [file(1, 10), file(2, 20)]) == []
    shelf.later(minutes=20)
    assert look(shelf, number, [file(1, 10), file(2, 20)]) == [] and states(shelf) == [("01", "passed"), ("02", "passed")]
    huge = file(3, BYTES_MOST + 1)
    assert look(shelf, number, [huge]) == []
    shelf.later(minutes=20)
    assert look(shelf, number, [huge]) == []
    (row,) = shelf.all(select(FileCame).where(FileCame.needs))
    assert row.state == "wrong" and "ask for it in parts" in row.message
    with pytest.raises(Conflict, match="no copy"):
        shelf.write(lambda context: arrivals.again(context, row.id, Path("/nowhere")))
    shelf.write(lambda context: arrivals.close(context, row.id))
    with pytest.raises(Conflict, match="nothing is open"):
        shelf.write(lambda context: arrivals.close(context, row.id))


def test_a_marker_says_that_its_file_is_whole_and_is_none_itself(shelf: Small) -> None:
    number = rule(shelf, Said(**{**vars(STOCK), "marker": ".ok", "pattern": "out/*"}))
    one, sign, lone = RemoteFile("out/a.csv", 5, START), RemoteFile("out/a.csv.ok", 0, START), RemoteFile("out/b.csv.ok", 0, START)
    assert look(shelf, number, [one, lone]) == [], "it is being written still"
    assert look(shelf, number, [one, sign, lone]) == ["out/a.csv:5"], "no need to wait until it stands still"
    shelf.later(minutes=20)
    assert look(shelf, number, [one, sign, lone]) == []


def test_a_server_that_tells_no_time_is_believed_anew_each_hour_and_a_torn_file_is_asked_for_again(shelf: Small) -> None:
    number = rule(shelf)
    bare = RemoteFile("out/stock-20260312.csv", 9)
    looks = []
    for _ in range(8):
        looks.append(look(shelf, number, [bare]))
        shelf.later(minutes=20)
    assert [bool(one) for one in looks].count(True) == 3, "once in each of three hours"
    came = shelf.all(select(FileCame.id).order_by(FileCame.id))[-1]
    shelf.write(lambda context: arrivals.torn(context, came))
    assert shelf.all(select(FileRule.next_at)) == [shelf.clock.now() + timedelta(seconds=30)]
    jobs = shelf.all(select(Job.key).where(Job.kind == "file"))
    assert len(jobs) == len(set(jobs)) == 3


def test_two_rules_never_do_the_same_and_none_takes_in_what_another_puts_there(shelf: Small) -> None:
    rule(shelf)
    ours = Said(1, "supplier", 1, "purchases", True, "in/orders-{number}.csv")
    rule(shelf, ours)
    with pytest.raises(Conflict, match="go to in/orders-"):
        rule(shelf, Said(**{**vars(ours), "pattern": "in/others-{number}.csv"}))
    with pytest.raises(Conflict, match="means our own files too"):
        rule(shelf, Said(1, "supplier", 1, "answers", False, "in/*.csv"))
    with pytest.raises(Conflict, match="means our own files too"):
        rule(shelf, Said(1, "supplier", 1, "tracking", False, "in/orders-*"))


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"owner": "carrier"}, "of a store or a supplier"),
        ({"what": "orders"}, "no such sheet for a supplier"),
        ({"pattern": "out/"}, "how its file is called"),
        ({"pattern": "*/x.csv"}, "not into that of its folder"),
        ({"pattern": "a/../x.csv"}, "without .. and empty ones"),
        ({"pattern": "x-{week}.csv"}, "is not known"),
        ({"pattern": "x" * 300}, "longer than"),
        ({"pattern": "***.csv"}, "no two beside each other"),
        ({"done_folder": "../done"}, "without .. and empty ones"),
        ({"server": 2, "done_folder": "done"}, "only lets files be fetched"),
        ({"server": 2, "what": "purchases", "is_out": True, "pattern": "a-{number}.csv"}, "only lets files be fetched"),
        ({"what": "purchases", "is_out": True, "pattern": "a.csv"}, "no two files have the same"),
        ({"what": "purchases", "is_out": True, "pattern": "a-*{number}.csv"}, "without \\* and \\?"),
        ({"what": "purchases", "is_out": True, "pattern": "a-{purchase}.csv"}, "one purchase order in it"),
        ({"what": "purchases", "is_out": True, "pattern": "a-{number}.xml"}, "goes as a document"),
        ({"what": "catalogue"}, "so that its columns are named"),
        ({"server": 0, "pattern": "stock*.csv"}, "connect a mailbox to read first"),
        ({"server": 0, "what": "answers", "pattern": "a.csv"}, "its answers are taken anyway"),
        ({"server": 0, "what": "purchases", "is_out": True, "pattern": "a-{number}.csv"}, "under How we order"),
    ],
)
def test_a_rule_that_cannot_work_says_why(shelf: Small, change: dict[str, Any], said: str) -> None:
    with pytest.raises(Invalid, match=said):
        rule(shelf, Said(**{**vars(STOCK), **change}))
    assert shelf.all(select(FileRule)) == []


def test_what_comes_by_mail_needs_an_address_and_lies_in_no_folder(shelf: Small) -> None:
    mail = Said(0, "supplier", 1, "stock", False, "stock*.csv")
    shelf.write(lambda context: context.session.add(Inbox(id=1, name="In", kind="pop")))
    with pytest.raises(Invalid, match="mail address first"):
        rule(shelf, mail)
    shelf.write(lambda context: setattr(context.get(Supplier, 1, "supplier"), "mail", "stock@supply.example"))
    with pytest.raises(Invalid, match="in no folder"):
        rule(shelf, Said(**{**vars(mail), "pattern": "in/stock*.csv"}))
    number = rule(shelf, mail)

    def come(name: str, mark: str) -> FileCame | None:
        return shelf.write(lambda context: arrivals.by_mail(context, context.get(Supplier, 1, "supplier"), name, 9, mark))

    first, other, again = come("Stock-1.CSV", "a"), come("stock-1.csv", "b"), come("Stock-1.CSV", "a")
    assert come("prices.csv", "a") is None and first is not None and other is not None and again is not None
    assert first.id == again.id != other.id and first.rule_id == number
    version = shelf.all(select(FileRule.version))[0]
    with pytest.raises(Invalid, match="another rule"):
        shelf.write(lambda context: rules.change(context, number, version, Said(**{**vars(mail), "what": "statements"})))
    shelf.write(lambda context: rules.switch(context, number, version, False))
    assert come("stock-2.csv", "c") is None, "a rule that is off takes nothing"
    with pytest.raises(Conflict, match="off already"):
        shelf.write(lambda context: rules.switch(context, number, shelf.all(select(FileRule.version))[0], False))
