"""How well versions of artwork read on cloth; each is looked at once for each colour."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache

import numpy as np
from sqlalchemy import select

from ...core.print_checks import readable
from ...core.print_choice import Candidate
from ...data.printing import ArtFile, ArtVersion
from ..base.context import Context
from . import files


@dataclass(frozen=True)
class Held:
    """A file that is no part of what its answer is remembered by."""

    file: ArtFile

    def __eq__(self, other: object) -> bool:
        return True

    def __hash__(self) -> int:
        return 0


@lru_cache(maxsize=4096)
def _share(sha: str, rgb: tuple[int, int, int], data: Held) -> Fraction:
    return readable(np.asarray(files.opened(data.file), dtype=np.uint8), rgb)


class Versions:
    """The versions of artworks as candidates for a cloth; each file is opened at most once for each colour."""

    def __init__(self, context: Context) -> None:
        self.context = context
        self.known: dict[int, list[tuple[ArtVersion, ArtFile]]] = {}

    def of(self, artwork: int) -> list[tuple[ArtVersion, ArtFile]]:
        if artwork not in self.known:
            query = select(ArtVersion, ArtFile).join(ArtFile, ArtFile.id == ArtVersion.sight_id)
            query = query.where(ArtVersion.artwork_id == artwork, ArtVersion.replaced_at.is_(None)).order_by(ArtVersion.id)
            self.known[artwork] = list(self.context.session.execute(query).tuples())
        return self.known[artwork]

    def candidates(self, artwork: int, colour: str, rgb: tuple[int, int, int]) -> list[Candidate]:
        return [
            Candidate(one.id, one.width, one.height, _share(sight.sha, rgb, Held(sight)), one.vector, one.ground == "colour")
            for one, sight in self.of(artwork)
            if one.ground != "colour" or one.colour == colour
        ]
