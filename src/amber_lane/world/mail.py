"""The mailbox: a real SMTP listener whose mails can be read, and asked for by our reference."""

from __future__ import annotations

import email
import email.policy
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session
from fastapi import Request

from . import office
from .counter import world_of
from .routes import Router
from .state import World, iso

router = Router(prefix="/mail/api")


class Handler:
    def __init__(self, world: World) -> None:
        self.world = world

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        world = self.world
        if world.luck.random() < world.dial("mail", "errors"):
            return "451 try again later"
        message = email.message_from_bytes(envelope.content if isinstance(envelope.content, bytes) else b"", policy=email.policy.default)
        body = message.get_body(preferencelist=("plain",))
        text = body.get_content() if body else ""
        with world.change() as db:
            db.execute(
                "insert into mail(at, reference, recipient, subject, body) values (?,?,?,?,?)",
                (world.now(), str(message.get("X-Reference", "")), ", ".join(envelope.rcpt_tos), str(message["subject"] or ""), text),
            )
            if office.ADDRESS in envelope.rcpt_tos:
                office.read(world, message)
        return "250 taken"


def start_mail(world: World, port: int) -> Controller:
    """Listen for mail on this machine only."""
    controller = Controller(Handler(world), hostname="127.0.0.1", port=port)
    controller.start()
    return controller


@router.get("/messages")
def messages(request: Request, reference: str = "", limit: int = 200) -> dict[str, Any]:
    world = world_of(request)
    where, values = ("where reference = ?", [reference]) if reference else ("", [])
    rows = world.rows(f"select * from mail {where} order by id desc limit ?", [*values, min(limit, 500)])
    return {
        "messages": [
            {
                "id": r["id"],
                "at": iso(r["at"]),
                "reference": r["reference"],
                "to": r["recipient"],
                "subject": r["subject"],
                "body": r["body"],
            }
            for r in rows
        ]
    }
