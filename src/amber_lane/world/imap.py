"""Our own mailbox once more, for readers that speak IMAP (RFC 3501): the few commands that looking into an inbox needs."""

from __future__ import annotations

import re
import shlex
import socketserver
import threading

from .pop import OWNER, PATIENCE, House
from .state import World

# A mailbox keeps its mark as long as its numbers mean the same mails.
MARK = 1


class Desk(socketserver.StreamRequestHandler):
    """One reader. Mails stay as they are, read or not."""

    timeout = PATIENCE

    def handle(self) -> None:
        world: World = self.server.world  # type: ignore[attr-defined]
        entered = False
        self.tell("* OK mail house")
        while line := self.rfile.readline(4096).decode("ascii", "replace").strip():
            tag, _, rest = line.partition(" ")
            command, _, told = rest.partition(" ")
            command = command.upper()
            if command == "LOGOUT":
                self.tell("* BYE good day", f"{tag} OK done")
                return
            if command == "CAPABILITY":
                self.tell("* CAPABILITY IMAP4rev1", f"{tag} OK done")
            elif command == "LOGIN":
                entered = shlex.split(told) == [OWNER, f"{world.key}-letters"]
                self.tell(f"{tag} OK come in" if entered else f"{tag} NO [AUTHENTICATIONFAILED] unknown name or password")
            elif not entered:
                self.tell(f"{tag} NO say who you are")
            elif world.luck.random() < world.dial("mail", "errors"):
                self.tell(f"{tag} NO [UNAVAILABLE] try again later")
            elif command in ("EXAMINE", "SELECT"):
                count = world.one("select count(*) as n from inbox")
                self.tell(f"* {count['n'] if count else 0} EXISTS", f"* OK [UIDVALIDITY {MARK}] numbers hold", f"{tag} OK done")
            elif command == "UID":
                self.uid(world, tag, told)
            else:
                self.tell(f"{tag} BAD there is no such thing here")

    def uid(self, world: World, tag: str, told: str) -> None:
        if told.upper().startswith("SEARCH"):
            numbers = " ".join(str(row["id"]) for row in world.rows("select id from inbox order by id"))
            self.tell(f"* SEARCH {numbers}".rstrip(), f"{tag} OK done")
            return
        wanted = re.match(r"FETCH (\d+) \((.+)\)", told, re.IGNORECASE)
        row = world.one("select id, raw from inbox where id = ?", (int(wanted[1]),)) if wanted else None
        if wanted and row and "SIZE" in wanted[2].upper():
            self.tell(f"* 1 FETCH (UID {row['id']} RFC822.SIZE {len(row['raw'])})")
        elif wanted and row:
            raw = row["raw"]
            if world.luck.random() < world.dial("mail", "malformed"):
                # Torn in the middle: the end of a mail that never comes.
                self.wfile.write(f"* 1 FETCH (UID {row['id']} BODY[] {{{len(raw)}}}\r\n".encode() + raw[: len(raw) // 2])
                self.connection.close()
                raise ConnectionResetError
            self.wfile.write(f"* 1 FETCH (UID {row['id']} BODY[] {{{len(raw)}}}\r\n".encode() + raw + b")\r\n")
        self.tell(f"{tag} OK done")

    def tell(self, *lines: str) -> None:
        self.wfile.write("".join(f"{line}\r\n" for line in lines).encode())


def start_imap(world: World, port: int) -> House:
    """Listen for readers of mail on this machine only."""
    house = House(("127.0.0.1", port), Desk)
    house.world = world
    threading.Thread(target=house.serve_forever, daemon=True).start()
    return house
