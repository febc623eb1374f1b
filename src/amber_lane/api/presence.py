"""Who looks at the same thing now: two people on one row see each other. In memory alone; nothing of it is written down."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, field

# Whoever has not looked for so many seconds is gone; of so many things it is known at once.
GONE_AFTER, MOST = 45.0, 5000


@dataclass
class Presence:
    """By thing, as sku:7, when each person last looked."""

    seen: dict[str, dict[str, float]] = field(default_factory=dict)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def look(self, thing: str, who: str) -> list[str]:
        """Somebody looks at a thing; the names of the others who do."""
        now = time.monotonic()
        with self.lock:
            for other in [key for key, people in self.seen.items() if key != thing and who in people]:
                # A person looks at one thing of a kind at a time.
                if other.partition(":")[0] == thing.partition(":")[0]:
                    self.seen[other].pop(who)
                    if not self.seen[other]:
                        del self.seen[other]
            if len(self.seen) >= MOST and thing not in self.seen:
                self.seen.clear()
            people = self.seen.setdefault(thing, {})
            people[who] = now
            for name in [name for name, at in people.items() if now - at > GONE_AFTER]:
                del people[name]
            return sorted(name for name in people if name != who)
