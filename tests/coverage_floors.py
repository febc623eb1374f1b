"""Percent of lines that the tests walked through, by room of the house; ends with 1 where one is under its floor."""

from __future__ import annotations

import json
import subprocess
import sys
import tomllib
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src" / "amber_lane"


def measured() -> dict[str, tuple[int, int]]:
    """Room or package of services -> lines walked through, of all."""
    target = ROOT / ".coverage.json"
    subprocess.run([sys.executable, "-m", "coverage", "json", "-q", "-o", str(target)], cwd=ROOT, check=True)
    found: dict[str, list[int]] = {}
    for name, file in json.loads(target.read_text())["files"].items():
        parts = (ROOT / name).resolve().relative_to(SOURCE).parts
        if len(parts) == 1:
            continue
        for place in {parts[0], "/".join(parts[:2])} if parts[0] == "services" else {parts[0]}:
            sums = found.setdefault(place, [0, 0])
            sums[0] += file["summary"]["covered_lines"]
            sums[1] += file["summary"]["num_statements"]
    target.unlink()
    return {place: (walked, of) for place, (walked, of) in sorted(found.items())}


def main() -> int:
    floors = tomllib.loads((ROOT / "pyproject.toml").read_text())["tool"]["amber_lane"]["coverage"]
    under = []
    for place, (walked, of) in measured().items():
        share = 100 * walked / max(of, 1)
        floor = floors.get(place)
        print(f"{place:<28}{share:6.1f} %  of {of:>6,} lines" + (f"   floor {floor} %" if floor else ""))
        if floor and share < floor:
            under.append(place)
    if under:
        print(f"under their floors: {', '.join(under)}")
    return 1 if under else 0


if __name__ == "__main__":
    sys.exit(main())
