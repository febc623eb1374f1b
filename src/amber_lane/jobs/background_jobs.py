"""Long jobs with progress: a sheet checked or taken, a partner's goods brought in. Each can be left, come back to and stopped."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from ..clock import Clock
from ..connectors.described.certify import Allowed
from ..connectors.errors import OutsideError
from ..connectors.protocols import Address
from ..core.states import JOB, JobState
from ..data.outbox import Job
from ..data.printing import PrintDesign
from ..data.session import Database
from ..services.base import portions
from ..services.base.context import Context
from ..services.base.errors import UseCaseError
from ..services.base.import_frame import Checked, SheetKind
from ..services.catalogue.search import Finder
from ..services.imports import sheet_kinds
from ..services.imports.column_memory import read_as
from ..services.listings import preparation, publishing
from ..services.mapping import audit, auto_matching, mapping_queue
from ..services.monitoring import catalogue_sheets
from ..services.partners import description_trials
from ..services.partners.registry import ConnectorRegistry
from ..services.pricing import replay_summary
from ..services.pricing.apply import tell_counts
from ..services.printing import making, sold_pictures, variants
from ..services.sourcing import paste, saved_searches
from ..sheets.mapping import Columns
from ..sheets.opened import NotASheet
from . import file_taking
from .hourly import ROWS
from .polling import Reader

# Items fetched, and lines prepared, between two words of progress.
FETCH, PREPARE = 20, 100
# SKUs whose lanes are opened in one transaction; each is far more work than a row that changes.
LANES = 25


class Stopped(Exception):
    """A person asked the job to stop."""


class LongJobs:
    """Carries jobs out, one at a time."""

    def __init__(
        self, db: Database, clock: Clock, connectors: ConnectorRegistry, finder: Finder | None = None, looks: bool | None = None
    ) -> None:
        """looks: only those jobs that merely read, or only the others; None = all."""
        self.db, self.clock, self.connectors, self.finder = db, clock, connectors, finder or Finder()
        self.kinds = [kind for kind in _RUN if looks is None or (kind in LOOKS) == looks]
        self.parts: dict[str, int] = {}

    def context(self, s: Session, body: Mapping[str, Any], more: bool = False) -> Context:
        """The context of whoever asked for a job: what it does is theirs, also to undo."""
        return Context(s, self.clock, body["who"], body.get("person"), self.parts, more)

    def recover(self) -> None:
        """A job that was running when the worker died starts again; each of them may be run twice."""
        with self.db.writing() as s:
            s.execute(
                update(Job).where(Job.state == JobState.running, Job.kind.in_(self.kinds)).values(state=JOB.target("begin_again"), done=0)
            )

    def run_due(self) -> None:
        while self._waiting():
            with self.db.writing() as s:
                job = s.scalar(select(Job).where(Job.state == JobState.waiting, Job.kind.in_(self.kinds)).order_by(Job.id).limit(1))
                if job is None:
                    return
                job.state = JOB.step(job.state, "start")
                number, kind, body = job.id, job.kind, dict(job.body)
            self._run(number, kind, body)

    def _waiting(self) -> bool:
        """Looked at before a turn to write is asked for, which an idle house has no need of."""
        with self.db.reading() as s:
            return s.scalar(select(Job.id).where(Job.state == JobState.waiting, Job.kind.in_(self.kinds)).limit(1)) is not None

    def _run(self, number: int, kind: str, body: dict[str, Any]) -> None:
        self.parts = {}
        try:
            result = _RUN[kind](self, number, body)
            self._end(number, "finish", result.get("message", ""), result)
        except Stopped:
            self._end(number, "stop", f"stopped; {self._left()}", None)
        except (UseCaseError, OutsideError) as error:
            self._end(number, "fail", error.message, None)
        except NotASheet as error:
            self._end(number, "fail", str(error), None)
        except Exception as error:
            self._end(number, "fail", f"it failed ({type(error).__name__}); {self._left()}", None)
            raise

    def _left(self) -> str:
        """What stands of a job that did not come to its end."""
        return (
            "what was done by then stands, and can be undone as one"
            if self.parts
            else "nothing half done was kept; what was whole by then stands"
        )

    def _end(self, number: int, how: str, message: str, result: dict[str, Any] | None) -> None:
        with self.db.writing() as s:
            s.execute(
                update(Job)
                .where(Job.id == number)
                .values(state=JOB.target(how), message=message[:500], result=result, ended_at=self.clock.now())
            )

    def progress(self, number: int, done: int, total: int | None = None) -> None:
        """Tell how far a job is; Stopped when a person asked it to stop."""
        with self.db.writing() as s:
            job = s.get(Job, number)
            if job is None or job.stop_asked:
                raise Stopped
            job.done, job.total = done, job.total if total is None else total

    def _sheet(self, number: int, body: dict[str, Any], take: bool) -> dict[str, Any]:
        kind = sheet_kinds.kind_of(body["sheet"])
        path = Path(body["path"])
        with self.db.reading() as s:
            sheet = read_as(s, kind, path.read_bytes(), Columns.of(body.get("how")))
        rows = list(_counted(sheet.rows, lambda n: self.progress(number, 0, n)))
        self.progress(number, 0, len(rows))
        if not take:
            with self.db.reading() as s:
                checked = kind.check(self.context(s, body), rows, lambda n: self.progress(number, n))
        else:
            with self.db.reading() as s:
                checked = kind.check(self.context(s, body), rows, lambda n: self.progress(number, n))
            self.take(number, kind, checked, body)
        bad = path.with_suffix(".bad.json")
        bad.write_text(json.dumps([[sheet.header], *[[row, reason] for row, reason in checked.bad]]))
        counts = checked.counts
        message = f"{counts['new']} new, {counts['changed']} changed, {counts['same']} the same, {counts['bad']} cannot be taken"
        message += f", {counts['wrong']} belong to other orders" if counts.get("wrong") else ""
        return {
            "message": message,
            "counts": counts,
            "changes": checked.changes,
            "unknown": sheet.unknown,
            "note": " ".join([checked.note, *(f"Not read: {one}." for one in sheet.left)]).strip(),
            "bad": [{"row": row, "reason": reason} for row, reason in checked.bad[:50]],
        }

    def take(self, number: int, kind: SheetKind, checked: Checked, body: dict[str, Any]) -> None:
        """The good rows in portions that are one act together; after a kill those that are left are taken, into the same act."""
        total = len(checked.good)
        self.progress(number, 0, total)
        self.parts.update(body.get("parts") or {})
        if kind.carry is not None:
            # It writes down itself what it did, and goes on with it after a kill.
            kind.carry(self.db, lambda s: self.context(s, body), checked, lambda n: self.progress(number, n))
            return
        done = 0
        for part in kind.portions(checked, portions.PORTION):
            with self.db.writing(patient=True) as s:
                done += len(part.good)
                kind.take(self.context(s, body, more=done < total), part)
                job = s.get(Job, number)
                if job is None or job.stop_asked:
                    raise Stopped
                job.done, job.body = done, {**body, "parts": dict(self.parts)}
        if kind.name == "lanes" and total:
            # What is wrong with them is counted before somebody goes by the old count.
            fine: list[int] = []
            with self.db.reading() as s:
                found = audit.faults(self.context(s, body), fine)
            with self.db.writing() as s:
                audit.save_faults(self.context(s, body), found)
            for start in range(0, len(fine), ROWS):
                with self.db.writing(patient=True) as s:
                    audit.keep_fine(self.context(s, body), fine[start : start + ROWS])

    def _join(self, number: int, body: dict[str, Any]) -> dict[str, Any]:
        reader = Reader(self.db, self.clock, self.connectors)
        fresh = reader.listings(body["id"]) if body["owner"] == "store" else reader.catalogue(body["id"])
        what = "listings" if body["owner"] == "store" else "items"
        return {"message": f"{fresh} new {what}", "fresh": fresh}

    def _catalogue(self, number: int, body: dict[str, Any]) -> dict[str, Any]:
        path = Path(body["path"])
        if not path.is_file():
            raise NotASheet("that sheet is not here any more; bring it in again")

        out = catalogue_sheets.take_sheet(
            body["id"], path.read_bytes(), self.db, lambda s: self.context(s, body), lambda n, of: self.progress(number, n, of)
        )
        catalogue_sheets.keep_bad(path, *out.pop("bad_sheet"))
        message = f"{out['fresh']} new items, {out['known']} known ones looked at"
        message += f", {out['bad_count']} rows not taken" if out["bad_count"] else ""
        return {"message": message + (f"; held: {out['held']}" if out["held"] else ""), **out}

    def _saved(self, number: int, body: dict[str, Any]) -> dict[str, Any]:
        """A saved search run by itself: what is new and fits is brought in as far as its limit of the day goes."""
        with self.db.reading() as s:
            found = saved_searches.find_now(self.context(s, body), self.finder, body["search"])
        with self.db.writing() as s:
            report = saved_searches.run(self.context(s, body), self.finder, body["search"], found)
        if report.get("publish"):
            with self.db.writing() as s:
                done = publishing.publish(self.context(s, body), report["publish"])
            report["message"] += f", {len(done.sent)} on their way to the store"
        return {k: v for k, v in report.items() if k != "publish"}

    def _publish(self, number: int, body: dict[str, Any]) -> dict[str, Any]:
        """Put listings on sale; each hundred is one transaction with its rows in the outbox."""
        sent: list[int] = []
        refused: dict[int, str] = {}
        ids = body["listings"]
        for start in range(0, len(ids), PREPARE):
            with self.db.writing() as s:
                done = publishing.publish(self.context(s, body), ids[start : start + PREPARE])
            sent += done.sent
            refused |= done.refused
            self.progress(number, min(start + PREPARE, len(ids)))
        message = f"{len(sent)} on their way" + (f", {len(refused)} not: something is missing" if refused else "")
        failed = [{"listing": listing, "reason": reason} for listing, reason in refused.items()]
        return {"message": message, "sent": sent, "failed": failed}

    def _paste(self, number: int, body: dict[str, Any]) -> dict[str, Any]:
        """Pasted lines: recognised, fetched from their suppliers where we do not have them, prepared."""
        with self.db.reading() as s:
            lines = paste.recognise(self.context(s, body), body["text"])
        self.progress(number, 0, len(lines))
        wanted: dict[int, list[paste.PastedLine]] = {}
        for line in lines:
            if not line.message and not line.item:
                wanted.setdefault(line.supplier, []).append(line)
        reader = Reader(self.db, self.clock, self.connectors)
        for supplier, missing in wanted.items():
            for start in range(0, len(missing), FETCH):
                part = missing[start : start + FETCH]
                _, failed = reader.items(supplier, [line.number for line in part])
                for line in part:
                    line.message = failed.get(line.number, "")
                self.progress(number, sum(1 for line in lines if line.message))
        with self.db.reading() as s:
            paste.find_items(self.context(s, body), [line for line in lines if not line.message])
        return self._prepare_lines(number, body, lines)

    def _prepare_lines(self, number: int, body: dict[str, Any], lines: list[paste.PastedLine]) -> dict[str, Any]:
        good = [line for line in lines if not line.message]
        bad = [line for line in lines if line.message]
        counts, listings = {"made": 0, "same": 0, "failed": 0}, []
        for start in range(0, len(good), PREPARE):
            part = good[start : start + PREPARE]
            with self.db.writing() as s:
                context = self.context(s, body)
                done = preparation.prepare(context, self.finder, [line.item for line in part], body["store"])
            for line, one in zip(part, done, strict=True):
                counts[one.outcome] += 1
                if one.outcome == "failed":
                    line.message = one.message
                    bad.append(line)
                elif one.listing:
                    listings.append(one.listing)
            self.progress(number, len(lines) - len(good) + start + len(part))
        counts["failed"] = len(bad)
        failures = [{"line": line.n, "text": line.text[:200], "reason": line.message} for line in sorted(bad, key=lambda one: one.n)]
        message = f"{counts['made']} listings prepared"
        message += f", {counts['same']} were there already" if counts["same"] else ""
        message += f", {len(bad)} lines could not be used" if bad else ""
        return {"message": message, "counts": counts, "failed": failures, "listings": listings[:2000]}

    def _match(self, number: int, body: dict[str, Any]) -> dict[str, Any]:
        """SKUs without a lane against all items: what is sure is opened, one act for all of them."""
        with self.db.reading() as s:
            learnt = auto_matching.learn_patterns(self.context(s, body))
        with self.db.writing() as s:
            auto_matching.keep_patterns(self.context(s, body), learnt)
        with self.db.reading() as s:
            context = self.context(s, body)
            wanted = mapping_queue.without_lane(context)
            self.progress(number, 0, len(wanted))
            sure = auto_matching.find_sure(context, lambda n: self.progress(number, n), wanted)
        self.progress(number, len(wanted))
        opened = 0
        for start in range(0, len(sure), LANES):
            with self.db.writing(patient=True) as s:
                part = sure[start : start + LANES]
                context = self.context(s, body, more=start + LANES < len(sure))
                opened += auto_matching.open_sure(context, part, "their numbers or all their words agree")
        left = len(wanted) - opened
        message = f"{opened} SKUs mapped, {left} wait for a person" if wanted else "every SKU on sale has a lane"
        return {"message": message, "opened": opened, "left": left}

    def _replay(self, number: int, body: dict[str, Any]) -> dict[str, Any]:
        """Two sets of rules over the past; reads only."""
        last = [-1]

        def progress(share: float) -> None:
            if int(share * 100) > last[0]:
                last[0] = int(share * 100)
                self.progress(number, last[0], 100)

        with self.db.reading() as s:
            one, other = (replay_summary.again(body[name]) for name in ("one", "other"))
            return replay_summary.beside(self.context(s, body), body["days"], one, other, progress)

    def _variants(self, number: int, body: dict[str, Any]) -> dict[str, Any]:
        """A design's colours and sizes as listings, with files for their houses and pictures."""
        with self.db.reading() as s:
            context = self.context(s, body)
            wanted = variants.wanted(context, context.get(PrintDesign, body["design"], "design"))
        total, made, failed, same = len(wanted), list[int](), dict[str, str](), 0
        # Making listings, files and pictures are about as much work each.
        for start_at in range(0, total, variants.CHUNK):
            with self.db.writing(patient=True) as s:
                part = wanted[start_at : start_at + variants.CHUNK]
                done = variants.make(self.context(s, body), self.finder, body["design"], body["store"], part)
            made, failed, same = made + done.listings, failed | done.failed, same + done.same
            self.progress(number, min(start_at + variants.CHUNK, total), 3 * total)
        self._print_files(number, body, total, 3 * total)
        self._print_pictures(number, body, 2 * total, 3 * total)
        message = f"{len(made)} listings prepared"
        message += f", {same} were there already" if same else ""
        message += f", {len(failed)} could not be: {next(iter(failed.values()))}" if failed else ""
        return {"message": message, "listings": made[:2000], "failed": failed}

    def _print_files(self, number: int, body: dict[str, Any], before: int = 0, total: int = 0) -> dict[str, Any]:
        """Files that print houses get, wherever they are to be made anew."""
        share = max(total - before, 0) // 2

        def tell(n: int, of: int) -> None:
            self.progress(number, before + n * share // of if total else n, total or of)

        made = making.make(self.db, lambda s: self.context(s, body), tell)
        return {"message": f"{made} print files made"}

    def _print_pictures(self, number: int, body: dict[str, Any], before: int = 0, total: int = 0) -> dict[str, Any]:
        """Pictures of a design for its listings."""

        def tell(n: int, of: int) -> None:
            self.progress(number, before + n * (total - before) // of if total else n, total or of)

        made = sold_pictures.make(self.db, lambda s: self.context(s, body), body["design"], tell)
        return {"message": f"{made} pictures"}

    def _sweep(self, number: int, body: dict[str, Any]) -> dict[str, Any]:
        counts = Reader(self.db, self.clock, self.connectors).sweep(body["id"], body["who"])
        return {"message": tell_counts(counts) or "nothing changed", "counts": counts}

    def _certify(self, number: int, body: dict[str, Any]) -> dict[str, Any]:
        """What holds of a description, asked of its partner."""
        with self.db.reading() as s:
            trial = description_trials.trial_of(self.context(s, body), self.connectors, body["id"])
        to = Address(**body["to"]) if body.get("to") else None
        allowed = Allowed(body.get("listing", ""), bool(body.get("practice")), to, body.get("item", ""))
        certificate = description_trials.looked_through(trial, self.connectors, allowed)
        with self.db.writing() as s:
            message = description_trials.keep_certificate(self.context(s, body), body["id"], certificate)
        return {"message": message}


def _counted(rows: Iterable[Any], tell: Callable[[int], None]) -> Iterator[Any]:
    for n, row in enumerate(rows, 1):
        if n % 20_000 == 0:
            tell(n)
        yield row


_RUN: dict[str, Callable[[LongJobs, int, dict[str, Any]], dict[str, Any]]] = {
    "sheet.check": lambda jobs, number, body: jobs._sheet(number, body, take=False),
    "sheet.take": lambda jobs, number, body: jobs._sheet(number, body, take=True),
    "join": LongJobs._join,
    "catalogue": LongJobs._catalogue,
    "paste": LongJobs._paste,
    "publish": LongJobs._publish,
    "saved": LongJobs._saved,
    "sweep": LongJobs._sweep,
    "match": LongJobs._match,
    "replay": LongJobs._replay,
    "print.variants": LongJobs._variants,
    "print.files": LongJobs._print_files,
    "print.pictures": LongJobs._print_pictures,
    "certify": LongJobs._certify,
    "file": file_taking.run,
}
# What only reads, and works long on it, keeps no other job waiting: these have a line of their own.
LOOKS = frozenset(("replay", "certify"))
