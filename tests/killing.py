"""A worker that dies at any point, the next that takes over, and the world's record against ours."""

from __future__ import annotations

import os
import signal
import threading
import time
from collections import Counter

import httpx
from paramiko import Transport
from sqlalchemy import event, select
from sqlalchemy.orm import Session

from amber_lane.connectors.smtp_mail import SmtpMail
from amber_lane.data.files import FileServer
from amber_lane.data.orders import Order, PurchaseOrder
from amber_lane.data.outbox import Outbox
from amber_lane.data.setup import UNCALLED, Inbox, Supplier

from .business import Business

# Threads of libraries, which Python knows nothing of.
NOT_OURS: set[int] = set()


class Killer:
    """Counts the points at which a process may die - before and after every call and every commit - and dies at one."""

    def __init__(self, at: int) -> None:
        self.at, self.seen = at, 0

    def point(self) -> None:
        self.seen += 1
        if self.seen == self.at:
            os.kill(os.getpid(), signal.SIGKILL)

    def arm(self) -> None:
        send, point = httpx.Client.send, self.point

        def watched(client, *args, **kwargs):
            point()
            try:
                return send(client, *args, **kwargs)
            finally:
                point()

        httpx.Client.send = watched
        event.listen(Session, "before_commit", lambda session: point())
        event.listen(Session, "after_commit", lambda session: point())
        mail = SmtpMail.send
        SmtpMail.send = lambda self, message: (point(), mail(self, message), point())


def work(business: Business) -> None:
    """A round of all that talks to the outside."""
    worker = business.app_state.worker
    worker.reader.orders(1)
    worker.send_due()
    worker.send_files()
    worker.deliver()
    for supplier in business.all(select(Supplier.id).where(Supplier.kind.not_in(UNCALLED))):
        worker.reader.answers(supplier)
    for inbox in business.all(select(Inbox.id)):
        worker.letters.read(inbox)
    for server in business.all(select(FileServer.id)):
        worker.look_at_files(server)
    worker.jobs.run_due()
    worker.deliver()
    worker.reader.parcels(1)


def alone() -> None:
    """Until no thread is on its way out: it may hold a lock of the cipher's, which nobody would give back in the copy.

    One that Python has let go of still ends in the kernel, where its last lock is taken. What stays for two seconds is
    taken for a library's own, which does not end.
    """
    for one in threading.enumerate():
        if isinstance(one, Transport):
            one.join(30)
    until = time.monotonic() + 2
    while ending := {int(task) for task in os.listdir("/proc/self/task")} - {one.native_id for one in threading.enumerate()} - NOT_OURS:
        if time.monotonic() > until:
            NOT_OURS.update(ending)
        time.sleep(0.001)


def victim(business: Business, at: int) -> bool:
    """Work in a process that is killed at point `at`. True when it lived to the end."""
    alone()
    pid = os.fork()
    if pid == 0:
        try:
            signal.alarm(240)
            own = Business(business.world, business.folder, joined=False)
            Killer(at).arm()
            work(own)
        finally:
            os._exit(0)
    _, status = os.waitpid(pid, 0)
    assert not os.WIFSIGNALED(status) or os.WTERMSIG(status) == signal.SIGKILL, "it stood still until its alarm"
    return not os.WIFSIGNALED(status)


def survive(business: Business) -> None:
    """The next worker: takes over where the dead one stood, and asks before it sends anything again."""
    delivery = business.app_state.worker.delivery
    delivery.settle = 0.0
    delivery.recover()
    business.app_state.worker.jobs.recover()
    work(business)
    if business.ask_at_once():
        # What the dead one had in hand has been asked for, and is gone on with.
        work(business)


def check(business: Business) -> None:
    """The world's record against ours."""
    record = business.world.record()
    mine = {row.reference: row for row in business.all(select(PurchaseOrder))}
    bought = Counter(one["reference"] for one in record["purchases"] if one["reference"] in mine)
    assert bought and max(bought.values()) == 1, bought.most_common(3)
    orders = {row.number for row in business.all(select(Order))}
    passed = Counter((one["number"], one["tracking_number"]) for one in record["fulfilments"] if one["number"] in orders)
    assert not passed or max(passed.values()) == 1, passed.most_common(3)
    keys = {row.key for row in business.all(select(Outbox).where(Outbox.kind == "mail"))}
    mails = {name: n for name, n in record["mails"].items() if name in keys}
    assert not mails or max(mails.values()) == 1, mails
    for one in record["purchases"]:
        if one["reference"] in mine and mine[one["reference"]].billed is not None:
            assert mine[one["reference"]].billed == one["billed"]
