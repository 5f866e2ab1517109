"""Who looks on, from a signed cookie: the live process and STOP ask no database."""

import hashlib
from dataclasses import dataclass

from django.conf import settings
from django.core import signing

COOKIE = "cadrel_pass"
SALT = "cadrel.live"
LONGEST = 14 * 24 * 3600  # [s] as a session
SHORT = 16  # characters of the session's fingerprint


@dataclass(frozen=True, slots=True, kw_only=True)
class Pass:
    """A user, as of login, and the session it belongs to."""

    user_id: int
    name: str
    role: str
    session: str  # fingerprint of the session's key

    @property
    def signature(self) -> str:
        """How a STOP names its author."""
        return f"{self.name} ({self.role})"


def fingerprint(session_key: str) -> str:
    """What a pass remembers of a session: not the key itself."""
    return hashlib.sha256(session_key.encode(errors="replace")).hexdigest()[:SHORT]


def issue(*, user_id: int, name: str, role: str, session_key: str) -> str:
    """Return the cookie's value."""
    body = {"u": user_id, "n": name, "r": role, "s": fingerprint(session_key)}
    return signing.dumps(body, salt=SALT)


def read(cookies: dict[str, str]) -> Pass | None:
    """Return the pass of a request's cookies; None if it is missing, forged, expired or of another session."""
    try:
        body = signing.loads(cookies.get(COOKIE, ""), salt=SALT, max_age=LONGEST)
        found = Pass(user_id=int(body["u"]), name=str(body["n"]), role=str(body["r"]), session=str(body["s"]))
    except (signing.BadSignature, KeyError, TypeError, ValueError):
        return None
    key = cookies.get(settings.SESSION_COOKIE_NAME, "")
    return found if key and fingerprint(key) == found.session else None
