"""Keys of partners are sealed before they are stored, and never shown again."""

from __future__ import annotations

import base64
import hashlib
import os
import secrets
from pathlib import Path

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error, InvalidHashError
from cryptography.fernet import Fernet, InvalidToken

from .errors import Conflict

_hasher = PasswordHasher()


class CredentialStore:
    """Seals and opens secrets with one key: AMBER_LANE_SECRET, or one made at first start (mode 600)."""

    def __init__(self, secret: str) -> None:
        self.secret = secret
        self._fernet = Fernet(base64.urlsafe_b64encode(hashlib.sha256(secret.encode()).digest()))

    @classmethod
    def at(cls, folder: Path, secret: str = "") -> CredentialStore:
        """The safe of a data folder."""
        if secret:
            return cls(secret)
        path = folder / "secret"
        folder.mkdir(parents=True, exist_ok=True)
        try:
            handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            return cls(path.read_text().strip())
        made = secrets.token_urlsafe(32)
        with os.fdopen(handle, "w") as out:
            out.write(made)
        return cls(made)

    def seal(self, text: str) -> str:
        return self._fernet.encrypt(text.encode()).decode() if text else ""

    def open(self, sealed: str) -> str:
        """Conflict when it was sealed with another key."""
        try:
            return self._fernet.decrypt(sealed.encode()).decode() if sealed else ""
        except InvalidToken:
            raise Conflict("this key was sealed with another AMBER_LANE_SECRET; enter the key again") from None

    def for_use(self, purpose: str) -> str:
        """A secret of its own for one purpose, derived from ours."""
        return hashlib.sha256(f"{purpose}:{self.secret}".encode()).hexdigest()


def hash_password(password: str) -> str:
    """Argon2id."""
    return _hasher.hash(password)


def password_fits(hashed: str, password: str) -> bool:
    try:
        return _hasher.verify(hashed, password)
    except (Argon2Error, InvalidHashError):
        return False
