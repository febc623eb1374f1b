"""One settings object, from the environment (AMBER_LANE_…)."""

from __future__ import annotations

from pathlib import Path

from pydantic_settings import BaseSettings, SettingsConfigDict


class Settings(BaseSettings):
    """Where the application stands. Seconds are real seconds."""

    model_config = SettingsConfigDict(env_prefix="AMBER_LANE_")

    host: str = "127.0.0.1"
    port: int = 8700
    world_port: int = 8701
    data: Path = Path("var")
    database_url: str = ""
    secret: str = ""
    # The address of a practice world whose clock is followed; empty = the real time.
    world: str = ""
    call_deadline: float = 10.0
    # Under which path and address people and partners reach it, where a server stands in front: /amber, https://desk.example/amber.
    root_path: str = ""
    public: str = ""
    # Whose word counts on who asks and how (X-Forwarded-…): addresses of the server in front, with commas.
    trusted: str = "127.0.0.1"
    # Ranges of addresses inside that partners may stand in (10.1.2.0/24), with commas; no other machine inside is ever called.
    inside: str = ""
    jobs: bool = True
    web: Path = Path(__file__).resolve().parents[2] / "web" / "dist"

    @property
    def url(self) -> str:
        return self.database_url or f"sqlite:///{(self.data / 'amber-lane.db').resolve()}"

    @property
    def reachable(self) -> list[str]:
        """Ranges inside that may be called: those that are named, and this machine where a practice world stands on it."""
        return [one for one in self.inside.split(",") if one.strip()] + (["127.0.0.0/8", "::1/128"] if self.world else [])

    @property
    def root(self) -> str:
        """The path under which it stands, without a slash at its end: '' or /amber."""
        path = self.root_path.strip("/")
        return f"/{path}" if path else ""

    @property
    def sealed(self) -> bool:
        """Whether people reach it by TLS alone."""
        return self.address.startswith("https://")

    @property
    def address(self) -> str:
        """Where people and partners reach it."""
        return self.public.rstrip("/") or f"http://{self.host}:{self.port}{self.root}"

    @property
    def world_address(self) -> str:
        return f"http://127.0.0.1:{self.world_port}"
