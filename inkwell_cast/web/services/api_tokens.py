"""Programs that may use the API: each has a token, which is shown once and kept as its hash."""

import hashlib
import secrets
import sqlite3
import time
from typing import TYPE_CHECKING

from ...core.base.errors import InputProblem
from ...store import api_tokens
from ...store.api_tokens import ApiToken

if TYPE_CHECKING:
    from .services import Services

SEEN_EVERY = 60.0  # seconds between two notes of when a program was seen
LONGEST = 80


class ApiTokens:
    """All of them."""

    def __init__(self, services: "Services") -> None:
        self.store = services.store

    def all(self) -> list[ApiToken]:
        with self.store.reading() as db:
            return api_tokens.all_of(db)

    def let_in(self, name: str) -> str:
        """The token of a new program, which cannot be had again. Raises InputProblem for a name that is taken."""
        name, token = name.strip()[:LONGEST], secrets.token_urlsafe(24)
        if not name:
            raise InputProblem("The program", "It has no name.", "Give one, such as the name of the program.")
        try:
            with self.store.writing() as db:
                api_tokens.add(db, name, _digest(token))
        except sqlite3.IntegrityError:
            raise InputProblem(name, "A program is called this already.", "Choose another name.") from None
        return token

    def shut_out(self, client_id: int) -> None:
        with self.store.writing() as db:
            if not api_tokens.delete(db, client_id):
                raise InputProblem("The program", "It has no token any more.", "Reload the page.")

    def knows(self, token: str) -> bool:
        """Whether a token is that of one of them."""
        with self.store.reading() as db:
            client = api_tokens.find(db, _digest(token))
        if client is None:
            return False
        if time.time() - (client.used or 0) > SEEN_EVERY:
            with self.store.writing() as db:
                api_tokens.seen(db, client.id)
        return True


def _digest(token: str) -> str:
    """A token is long and random, so that a plain hash of it tells nothing."""
    return hashlib.sha256(token.encode()).hexdigest()
