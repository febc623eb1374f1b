"""What a new password must be, and how often one may be tried."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, field

LEAST = 12
# Guesses of somebody who knows the lists of common passwords and names, as powers of ten in zxcvbn's scale of 0 to 4.
STRONG = 3
# What it looks at of a long one; its time grows with the square.
LOOKED_AT = 72


def password_fault(password: str, mail: str, name: str) -> str:
    """What is wrong with a new password; '' when it is good."""
    # Loaded where it is used: its lists of common passwords are large, and most starts need none.
    from zxcvbn import zxcvbn

    if len(password) < LEAST:
        return f"needs at least {LEAST} characters"
    known = [mail.partition("@")[0], *name.split(), "amberlane", "amber lane"]
    if zxcvbn(password[:LOOKED_AT], user_inputs=known)["score"] < STRONG:
        return "is one of the first that anybody would try; three words in a row are better"
    low = _plain(password)
    for one in (mail.partition("@")[0], name, "amberlane"):
        plain = _plain(one)
        if len(plain) >= 4 and plain in low and len(low.replace(plain, "")) < 6:
            return "is little more than a name that others know"
    return ""


def _plain(text: str) -> str:
    return "".join(letter for letter in text.casefold() if letter.isalnum())


# After so many wrong tries each further one waits, twice as long every time, up to so many seconds; so long nothing is forgotten.
FREE, FREE_OF_ACCOUNT, LONGEST_WAIT, REMEMBERED = 5, 20, 900.0, 3600.0
# Accounts and addresses that are kept in mind at once.
MOST = 50_000


@dataclass
class _Tries:
    wrong: int = 0
    last: float = 0.0


@dataclass
class Throttle:
    """Counts wrong tries by account and address together, by address, and by account.

    Whoever tries somebody's account from everywhere is slowed down too, but never whoever comes from where that person came from before.
    """

    tries: dict[tuple[str, str], _Tries] = field(default_factory=dict)
    lock: threading.Lock = field(default_factory=threading.Lock)
    tidy_at: float = 0.0

    def wait(self, account: str, address: str, known: bool) -> float:
        """Seconds until the next try is looked at; known: that person has signed in from there before."""
        now, out = time.monotonic(), 0.0
        with self.lock:
            for key, free in self._keys(account, address, known):
                one = self.tries.get(key)
                if one and one.wrong >= free:
                    out = max(out, one.last + min(2.0 ** (one.wrong - free), LONGEST_WAIT) - now)
        return max(out, 0.0)

    def wrong(self, account: str, address: str) -> int:
        """Count a wrong try. Returns how many there were of that account from there."""
        now = time.monotonic()
        with self.lock:
            if now > self.tidy_at or len(self.tries) > MOST:
                self._tidy(now)
            for key, _ in self._keys(account, address, False):
                one = self.tries.setdefault(key, _Tries())
                one.wrong, one.last = one.wrong + 1, now
            return self.tries[account, address].wrong

    def _tidy(self, now: float) -> None:
        """What is old goes, and of very many the older half: whoever makes names up fills no memory."""
        self.tidy_at = now + 60
        left = {key: one for key, one in self.tries.items() if now - one.last < REMEMBERED}
        newest = sorted(left, key=lambda key: left[key].last)[-MOST // 2 :] if len(left) > MOST else left
        self.tries = {key: left[key] for key in newest}

    def right(self, account: str, address: str) -> None:
        with self.lock:
            self.tries.pop((account, address), None)

    def _keys(self, account: str, address: str, known: bool) -> list[tuple[tuple[str, str], int]]:
        mine = [((account, address), FREE)]
        return mine if known else [*mine, (("", address), FREE * 4), ((account, ""), FREE_OF_ACCOUNT)]
