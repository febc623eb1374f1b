"""How well versions of artwork read on cloth; each is looked at once for each colour."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from sqlalchemy import select

from ...core.print_checks import readable
from ...core.print_choice import Candidate
from ...data.printing import ArtFile, ArtVersion
from ..base.context import Context
from . import files

# What of a file (by its checksum) reads on a colour; as many as are kept at most.
_SHARES: dict[tuple[str, tuple[int, int, int]], Fraction] = {}
_MOST = 20_000


class Versions:
    """The versions of artworks as candidates for a cloth; each file is opened at most once for each colour."""

    def __init__(self, context: Context) -> None:
        self.context = context
        self.known: dict[int, list[tuple[ArtVersion, str]]] = {}

    def of(self, artwork: int) -> list[tuple[ArtVersion, str]]:
        """An artwork's versions of now, each with the checksum of what is looked at of it."""
        if artwork not in self.known:
            query = select(ArtVersion, ArtFile.sha).join(ArtFile, ArtFile.id == ArtVersion.sight_id)
            query = query.where(ArtVersion.artwork_id == artwork, ArtVersion.replaced_at.is_(None)).order_by(ArtVersion.id)
            self.known[artwork] = list(self.context.session.execute(query).tuples())
        return self.known[artwork]

    def candidates(self, artwork: int, colour: str, rgb: tuple[int, int, int]) -> list[Candidate]:
        return [
            Candidate(one.id, one.width, one.height, self._share(one.sight_id, sha, rgb), one.vector, one.ground == "colour")
            for one, sha in self.of(artwork)
            if one.ground != "colour" or one.colour == colour
        ]

    def _share(self, sight: int, sha: str, rgb: tuple[int, int, int]) -> Fraction:
        if (sha, rgb) not in _SHARES:
            if len(_SHARES) >= _MOST:
                _SHARES.clear()
            file = self.context.session.get_one(ArtFile, sight)
            _SHARES[sha, rgb] = readable(np.asarray(files.opened(file), dtype=np.uint8), rgb)
        return _SHARES[sha, rgb]
