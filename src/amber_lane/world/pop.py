"""Our own mailbox as the mail house shows it: the few commands of POP3 (RFC 1939) that a reader of mail needs."""

from __future__ import annotations

import socketserver
import threading
from typing import Any

from .state import World

OWNER = "duskdial"
# A reader that says nothing for so many seconds is put down.
PATIENCE = 30


def put(world: World, raw: bytes) -> None:
    """A mail has come for us."""
    with world.change() as db:
        db.execute("insert into inbox(at, raw) values (?,?)", (world.now(), raw))


class Counter(socketserver.StreamRequestHandler):
    """One reader. Mails stay until they are deleted, and nobody here deletes any."""

    timeout = PATIENCE

    def handle(self) -> None:
        world: World = self.server.world  # type: ignore[attr-defined]
        said: list[str] = []
        entered = False
        self.tell("+OK mail house")
        while words := self.rfile.readline(512).decode("ascii", "replace").split():
            command, rest = words[0].upper(), words[1:]
            if command == "QUIT":
                self.tell("+OK good day")
                return
            if command in ("USER", "PASS"):
                said = [*said[:1], *rest] if command == "PASS" else rest[:1]
                wrong = command == "PASS" and said != [OWNER, f"{world.key}-letters"]
                self.tell("-ERR [AUTH] unknown name or password" if wrong else "+OK")
                entered = command == "PASS" and not wrong
            elif not entered:
                self.tell("-ERR say who you are")
            elif world.luck.random() < world.dial("mail", "errors"):
                self.tell("-ERR [SYS/TEMP] try again later")
            else:
                self.answer(world, command, rest)

    def answer(self, world: World, command: str, rest: list[str]) -> None:
        rows = world.rows("select id, length(raw) as size from inbox order by id")
        row = rows[int(rest[0]) - 1] if rest and rest[0].isdigit() and 0 < int(rest[0]) <= len(rows) else None
        if command == "STAT":
            self.tell(f"+OK {len(rows)} {sum(row['size'] for row in rows)}")
        elif command == "LIST" and row:
            self.tell(f"+OK {rest[0]} {row['size']}")
        elif command in ("UIDL", "LIST") and not rest:
            text = "uid-{id}" if command == "UIDL" else "{size}"
            self.tell("\r\n".join(["+OK", *(f"{n} {text.format(**row)}" for n, row in enumerate(rows, 1)), "."]))
        elif command == "RETR" and row:
            self.hand_over(world, row["id"])
        else:
            self.tell("-ERR there is no such thing here")

    def hand_over(self, world: World, number: int) -> None:
        row = world.one("select raw from inbox where id = ?", (number,))
        assert row
        lines = row["raw"].replace(b"\r\n", b"\n").rstrip(b"\n").split(b"\n")
        text = b"+OK\r\n" + b"".join((b"." if line.startswith(b".") else b"") + line + b"\r\n" for line in lines)
        if world.luck.random() < world.dial("mail", "malformed"):
            # Torn in the middle: the end of a mail that never comes.
            self.wfile.write(text[: len(text) // 2])
            self.connection.close()
            raise ConnectionResetError
        self.wfile.write(text + b".\r\n")

    def tell(self, line: str) -> None:
        self.wfile.write(f"{line}\r\n".encode())


class House(socketserver.ThreadingTCPServer):
    allow_reuse_address = True
    daemon_threads = True
    world: World

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A reader that went away is nobody's trouble."""


def start_pop(world: World, port: int) -> House:
    """Listen for readers of mail on this machine only."""
    house = House(("127.0.0.1", port), Counter)
    house.world = world
    threading.Thread(target=house.serve_forever, daemon=True).start()
    return house
