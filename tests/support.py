"""A user's work for tests: estates as text in a temporary folder, and the built program run on them."""

from __future__ import annotations

import gc
import importlib
import json
import os
import pkgutil
import pwd
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import unittest
import unittest.mock
import warnings
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple
from urllib.request import urlopen

import justlane
from justlane.directories.interface import read_people
from justlane.engine.facts.index import EstateIndex
from justlane.files.opening.load import load
from tests.patience import finished, until

DEMO = Path(__file__).parent.parent / "src" / "justlane" / "demo"
PUMPHALL = {path.name: path.read_text() for path in (DEMO / "pumphall").iterdir() if path.is_file()}


class Ran(NamedTuple):
    """What a run of the program gave."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


@cache
def everything_loaded() -> Callable[[], None]:
    """The program's main function, after every module of it was loaded once: copies of this process need not again."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)  # a library of others calls another by an old name
        for module in pkgutil.walk_packages(justlane.__path__, "justlane."):
            if not module.name.endswith("__main__"):
                importlib.import_module(module.name)
    gc.set_threshold(100_000, 20, 100)  # as the program itself does
    gc.freeze()  # what is loaded stays: copies need not look through it, and go on sharing its memory
    return sys.modules["justlane.cli.main"].run  # type: ignore[no-any-return]


class EstateTest(unittest.TestCase):
    """A test with a folder of its own. The cache of the program is in it too."""

    forked = True
    """Whether commands run in copies of this process, which is quicker; not where threads of it serve something."""
    nameless = False
    """Whether the copies are somebody's whom the system does not know, as in a container: without a name, without a home."""

    def setUp(self) -> None:
        temporary = tempfile.TemporaryDirectory()
        self.addCleanup(temporary.cleanup)
        self.top = Path(temporary.name).resolve()
        own = unittest.mock.patch.dict(os.environ, XDG_CONFIG_HOME=str(self.top / "config"))
        own.start()
        self.addCleanup(own.stop)
        self.folder = self.top / "estate"
        self.folder.mkdir()

    def write(self, files: Mapping[str, str | bytes]) -> None:
        for name, content in files.items():
            path = self.folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content if isinstance(content, bytes) else content.encode())

    def secret(self, name: str, text: str) -> None:
        """A secret of the estate, in a file that its owner alone may read."""
        folder = self.folder / "secrets"
        folder.mkdir(mode=0o700, exist_ok=True)
        (folder / name).touch(mode=0o600)
        (folder / name).write_text(text)

    def pumphall(self, **replaced: tuple[str, str]) -> None:
        """The small estate, with one text replaced by another in files named by their stem."""
        files = dict(PUMPHALL)
        for stem, (old, new) in replaced.items():
            name = next(n for n in files if n.startswith(stem + "."))
            assert old in files[name], old
            files[name] = files[name].replace(old, new, 1)
        self.write(files)

    def saltmarsh(self) -> None:
        shutil.copytree(DEMO / "saltmarsh", self.folder, dirs_exist_ok=True)

    def index(self) -> EstateIndex:
        """The estate in the folder, read here and now."""
        loaded = load(self.folder, read_people)
        assert loaded.estate is not None, loaded.findings
        return loaded.ready

    @property
    def environment(self) -> dict[str, str]:
        kept = {k: v for k, v in os.environ.items() if not k.startswith(("JUSTLANE", "_JUSTLANE"))}
        return {**kept, "XDG_CACHE_HOME": str(self.top / "cache"), "XDG_CONFIG_HOME": str(self.top / "config"), "JUSTLANE_ESTATE": str(self.folder)}

    def run_lane(self, *words: str, stdin: str | None = None, **extra: str) -> Ran:
        """Run the program as a user would, without a terminal. A traceback is always a failure."""
        if self.forked and stdin is None and "PYTHONPATH" not in extra:
            return self.run_forked(*words, **extra)
        command = [sys.executable, "-m", "justlane", *words]
        pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
        with subprocess.Popen(command, env={**self.environment, **extra}, cwd=self.top, text=True, **pipes) as process:  # type: ignore[call-overload]
            out, err = finished(process, stdin or "")
        self.assertNotIn("Traceback", err)
        self.assertNotIn("mistake in justlane itself", err)
        return Ran(process.returncode, out, err)

    def run_forked(self, *words: str, **extra: str) -> Ran:
        """The same from a copy of this process, in which all modules are loaded already: for long tables of commands."""
        run = everything_loaded()
        paths = [self.top / "said.out", self.top / "said.err"]
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)  # forking beside threads that NumPy's library keeps idle
            child = os.fork()
        if child == 0:
            try:
                os.environ.clear()
                os.environ.update({**self.environment, **extra})
                os.chdir(self.top)
                os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
                for number, path in enumerate(paths, 1):
                    os.dup2(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC), number)
                if self.nameless:
                    for name in ("HOME", "USER", "LOGNAME", "LNAME", "USERNAME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME"):
                        os.environ.pop(name, None)
                    pwd.getpwuid = {}.__getitem__  # type: ignore[assignment]
                sys.stdin, sys.stdout, sys.stderr = (os.fdopen(n, "r" if not n else "w") for n in range(3))
                sys.argv = ["justlane", *words]
                run()
            except SystemExit as stop:
                sys.stdout.flush()
                sys.stderr.flush()
                os._exit(int(stop.code or 0))
            finally:
                os._exit(99)
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        out, err = (path.read_text() for path in paths)
        self.assertNotIn("mistake in justlane itself", err)
        self.assertNotEqual(code, 99, err)
        return Ran(code, out, err)

    def lane(self, line: str, code: int = 0, /, **extra: str) -> Ran:
        """Run a command line without quotes, and insist on its exit code."""
        ran = self.run_lane(*line.split(), **extra)
        self.assertEqual(ran.code, code, ran)
        return ran

    @contextmanager
    def standing_in(self, platform: str) -> Iterator[subprocess.Popen[str]]:
        """A stand-in on a free port, with a token, for a platform of the sample estate."""
        port = free_port()
        for path in (self.folder / "platforms").glob(f"{platform}.yaml"):
            path.write_text(re.sub("847[1-6]", str(port), path.read_text()))
        token = self.folder / "secrets" / f"{platform}.token"
        if not token.exists():
            token.parent.mkdir(mode=0o700, exist_ok=True)
            token.touch(mode=0o600)
            token.write_text("a-token-of-the-tests")
        command = [sys.executable, "-m", "justlane", "standin", platform]
        process = subprocess.Popen(command, env=self.environment, stderr=subprocess.PIPE, text=True)
        try:
            wait_for(f"http://127.0.0.1:{port}/.well-known/authzen-configuration", process)
            yield process
        finally:
            process.terminate()
            finished(process)


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def wait_for(url: str, process: subprocess.Popen[str]) -> None:
    def answers() -> bool:
        try:
            with urlopen(url, timeout=5):
                return True
        except OSError:
            assert process.poll() is None, f"nothing answers at {url}"
            return False

    until(answers, lambda: f"nothing answers at {url}", 0.05)
