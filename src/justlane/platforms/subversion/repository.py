"""A Subversion server's file of rules, changed in one step, and its own tools to check, to ask and to try."""

from __future__ import annotations

import re
import shutil
import subprocess
import tempfile
from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from urllib.parse import quote, urlsplit
from uuid import uuid4

from justlane.files.disk.durable import write_atomically
from justlane.model.errors import ChangeRefusedError, NonsenseError, PlatformChangedError, UnreachableError
from justlane.model.estate import Platform
from justlane.model.names import one_line
from justlane.outside.places import Place, place_to_change
from justlane.outside.secrets import Destination, Permit, passwords
from justlane.platforms.interface import Corner, Entry, Reading, Shown, Step
from justlane.platforms.subversion.dialect import READ, WRITE, path_of
from justlane.platforms.subversion.one_address import only_way
from justlane.platforms.subversion.remembered import as_it_was, remember
from justlane.platforms.subversion.rules_file import RulesFile, digest_of, parse_rules

_SECONDS = 30
_PORTS = {"svn": 3690, "http": 80, "https": 443}
_CHECKER, _CLIENT = "svnauthz", "svn"
_NOT_ALLOWED, _NOT_BELIEVED = "E170001: Authorization failed", ("E170013", "E215004", "E170001")
_SENT_AWAY = re.compile(r"(?:Redirecting to URL|moved (?:permanently|temporarily) to) '(?P<to>[^']*)'")
_BELIEVED = ("E160013", "E220004", _NOT_ALLOWED)
"""What it says to whoever it believes, if they write where nothing can be: no such path, or no right to."""
_HINT = "install Subversion (its tools `svn` and `svnauthz`)"


def connect(platform: Platform, folder: Path, permit: Permit) -> SubversionRepository:
    """A connector for the file that the estate names; one outside of it has to be allowed."""
    connection = platform.connection
    assert connection is not None
    parts = urlsplit(connection.url)
    port = parts.port or _PORTS.get(parts.scheme, 0)
    where = Destination(parts.hostname or "localhost", port, "", parts.scheme == "https")
    known = passwords(connection.passwords, folder, where, permit) if connection.passwords else {}
    return SubversionRepository(platform, place_to_change(folder, connection.settings["file"]), known, folder)


class SubversionRepository:
    """One repository's rules."""

    def __init__(self, platform: Platform, place: Place, known: Mapping[str, str], folder: Path) -> None:
        assert platform.connection is not None
        self._folder = folder
        self._platform, self._place, self._passwords = platform, place, known
        self._url = platform.connection.url.rstrip("/")
        self._name = platform.connection.settings.get("repository", "")
        self._scratch = platform.connection.settings.get("scratch", "")
        self._said: dict[tuple[str, str], str] = {}

    def close(self) -> None:
        """Nothing is held open."""

    def read(self) -> Reading:
        """What the file says now."""
        content = self._content()
        reading = self._parsed(content).reading(content)
        wrong = self._trouble(content) if content and shutil.which(_CHECKER, path=_PATH) else ""
        says: Entry = {"says": f"{_CHECKER} does not accept {self._place.shown}: {wrong}"}
        return reading.changed([("unjudged", "file", says)]) if wrong else reading

    def make_corner(self, name: str) -> Corner:
        """A path of its own; rules do not ask whether there is one."""
        return Corner(name, {f"{self._platform.name}/{name}": "folder"})

    def remove_corner(self, corner: Corner) -> None:
        """There is nothing to take away but its rules."""

    def change(self, steps: Sequence[Step], revision: str, key: str) -> str:
        """Replace the file, once the server's own tool has found the new one sound. PlatformChangedError if somebody
        changed it since."""
        del key  # a file that was replaced shows in the next reading
        content = self._content()
        if digest_of(content) != revision:
            message = f"{self._place.shown} was changed by somebody else meanwhile"
            raise PlatformChangedError(message, "run align again: it starts from what is there now")
        changed = self._parsed(content).changed(steps)
        new = as_it_was(self._folder, self._platform.name, changed) or changed.text().encode()
        self._validate(new)
        remember(self._folder, self._platform.name, content)
        write_atomically(self._place.top, self._place.name, new, self._place.mode)
        self._said.clear()
        return digest_of(new)

    def evaluate(self, user: str, cells: Sequence[tuple[str, str, str]], context: Entry) -> list[bool | None]:
        """Ask the server's own tool, once for each path."""
        del context
        if shutil.which(_CHECKER, path=_PATH) is None:
            return [None] * len(cells)
        return [{READ: "r", WRITE: "w"}.get(action, "?") in self._access(user, scope) for action, _, scope in cells]

    def can_become(self, user: str) -> bool:
        """Whether there is a server to try on, and their password for it."""
        return bool(self._url) and user in self._passwords

    def sign_in(self, user: str, context: Entry) -> PersonSession | None:
        """Really sign in, to look at the root."""
        del context
        session = PersonSession(self._platform, self._url, user, self._passwords[user], self._scratch)
        if session.signed_in():
            return session
        session.close()
        return None

    def _access(self, user: str, scope: str) -> str:
        path = path_of(scope)
        if (user, path) not in self._said:
            words = ["accessof", "--username", user, "--path", path]
            words += ["--repository", self._name] if self._name else []
            done = _run([_CHECKER, *words, str(self._place.path)])
            if done.returncode or done.stdout.strip() not in ("no", "r", "rw", "w"):
                raise NonsenseError(f"{_CHECKER} says: {one_line(done.stderr)}", f"see {self._place.shown}")
            self._said[user, path] = done.stdout.strip().replace("no", "")
        return self._said[user, path]

    def _content(self) -> bytes:
        try:
            return self._place.read()
        except FileNotFoundError:
            return b""
        except OSError as error:
            message = f"{self._place.shown} cannot be read: {error.strerror}"
            raise UnreachableError(message, "see who may read it") from error

    def _parsed(self, content: bytes) -> RulesFile:
        try:
            return parse_rules(content, self._name)
        except ValueError as error:
            raise NonsenseError(f"{self._place.shown}: {error}", "correct the file first") from error

    def _validate(self, content: bytes) -> None:
        if shutil.which(_CHECKER, path=_PATH) is None:
            raise UnreachableError(f"{_CHECKER} is not on this machine, so no new file can be checked", _HINT)
        if wrong := self._trouble(content):
            message = f"{_CHECKER} does not accept the new rules: {wrong}"
            raise ChangeRefusedError(message, "nothing was changed; see the names in it")

    def _trouble(self, content: bytes) -> str:
        """What the server's own tool says against a file; empty if nothing."""
        with tempfile.NamedTemporaryFile(suffix=".rules") as file:
            file.write(content)
            file.flush()
            done = _run([_CHECKER, "validate", file.name])
            return one_line(done.stderr).replace(file.name, "the file") if done.returncode else ""


class PersonSession:
    """A person, with the client's own program; everything is done in a folder that goes away."""

    def __init__(self, platform: Platform, url: str, user: str, password: str, scratch: str) -> None:
        self._platform, self._url, self._user, self._password, self._scratch = platform, url, user, password, scratch
        self._folder = tempfile.TemporaryDirectory(prefix="justlane-")
        self._open = ExitStack()
        parts = urlsplit(url)
        self._way: list[str] = []
        if parts.scheme != "svn":
            port = self._open.enter_context(only_way(parts.hostname or "", parts.port or _PORTS[parts.scheme]))
            self._way = _through(port)

    def close(self) -> None:
        """Take the folder away."""
        self._open.close()
        self._folder.cleanup()

    def signed_in(self) -> bool:
        """Whether the server believes who they are; whether they may look is another matter. UnreachableError if it
        does not answer."""
        done = self._client("info", self._url)
        if done.returncode == 0 and self._is_open():
            # The server asks nobody who they are before they write: so something is written where nothing can be.
            done = self._client("mkdir", "-m", "Never made.", f"{self._url}/no-such-{uuid4().hex}/trial")
            return any(code in done.stderr for code in _BELIEVED)
        if done.returncode == 0 or _NOT_ALLOWED in done.stderr:
            return True
        if any(code in done.stderr for code in _NOT_BELIEVED):
            return False
        message = f"{self._platform.name} cannot be reached at {self._url}: {one_line(done.stderr)}"
        raise UnreachableError(message, "start it, or correct the url")

    def _is_open(self) -> bool:
        """Whether whoever does not sign in may look."""
        return _run([_CLIENT, "info", self._url, *self._own]).returncode == 0

    def sees(self) -> dict[str, Shown] | None:
        """What it lists is what may be read, which is tried."""
        return None

    def attempt(self, action: str, scope: str) -> bool | None:
        """Check out; commit only below the scratch path, and take it back."""
        url = f"{self._url}{quote(path_of(scope))}"
        if action == READ:
            into = str(Path(self._folder.name) / uuid4().hex)
            return self._done("checkout", "--depth", "empty", url, into)
        if action != WRITE or not self._scratch:
            return None
        scratch = f"{self._platform.name}/{self._scratch.strip('/')}"
        if scope != scratch and not scope.startswith(f"{scratch}/"):
            return None
        trial = f"{url.rstrip('/')}/trial-{uuid4().hex[:12]}"
        if not self._done("mkdir", "-m", "A trial by justlane.", trial):
            return False
        self._done("rm", "-m", "The trial by justlane is over.", trial)
        return True

    def _done(self, *words: str) -> bool | None:
        done = self._client(*words)
        if done.returncode == 0:
            return True
        refused = _NOT_ALLOWED in done.stderr or "E170001" in done.stderr
        return False if refused else None  # there is no such path, or the server is gone

    def _client(self, *words: str) -> subprocess.CompletedProcess[str]:
        who = ["--username", self._user, "--password-from-stdin"]
        done = _run([_CLIENT, *words, *self._own, *who], self._password)
        if away := _SENT_AWAY.search(done.stdout + done.stderr):
            message = f"{self._platform.name} at {self._url} sends on to {one_line(away['to'])}, which is not followed"
            raise UnreachableError(message, "see who did that; if it is right, name that address in `url`")
        return done

    @property
    def _own(self) -> list[str]:
        """Nobody is asked, nothing is kept, and there is one way only."""
        return ["--non-interactive", "--no-auth-cache", "--config-dir", self._folder.name, *self._way]


def _through(port: int) -> list[str]:
    """The options that lead the client through a listener on this machine."""
    said = {"http-proxy-host": "127.0.0.1", "http-proxy-port": str(port), "http-proxy-exceptions": ""}
    return [word for key, value in said.items() for word in ("--config-option", f"servers:global:{key}={value}")]


def _run(words: list[str], said: str = "") -> subprocess.CompletedProcess[str]:
    try:
        return subprocess.run(
            words,
            input=said,
            capture_output=True,
            text=True,
            timeout=_SECONDS,
            check=False,
            env={"LC_ALL": "C.UTF-8", "PATH": _PATH},
        )
    except FileNotFoundError as error:
        raise UnreachableError(f"{words[0]} is not on this machine", _HINT) from error
    except subprocess.TimeoutExpired as error:
        message = f"{words[0]} did not end within {_SECONDS} seconds"
        raise UnreachableError(message, "see whether the server hangs") from error


_PATH = "/usr/local/bin:/usr/bin:/bin:/opt/homebrew/bin"
