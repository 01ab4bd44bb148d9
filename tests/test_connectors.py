"""The kinds of connector: all that ship keep their promises, one that breaks them is found out, others come in."""

import json
import os
import re
import socket
import subprocess
import sys
import textwrap
import time
import unittest
from pathlib import Path

from justlane.platforms.interface import CONNECTORS
from tests.support import EstateTest, free_port

FOREIGN = '''
from justlane.platforms.over_http.dialect import HttpDialect

class Dialect(HttpDialect):
    """Forgets half of the bindings."""
    def declared(self, index, platform, moment):
        found = super().declared(index, platform, moment)
        bindings = found.parts["bindings"]
        for name in list(bindings)[1::2] if {forgets} else ():
            del bindings[name]
        return found

DIALECT = Dialect()

class Memory:
    held = {{part: {{}} for part in DIALECT.parts}}
    revision = 0
    def read(self):
        from justlane.platforms.interface import Reading
        return Reading(str(self.revision), {{part: dict(some) for part, some in self.held.items()}})
    def change(self, steps, revision, key):
        from justlane.model.errors import PlatformChangedError
        if revision != str(self.revision) and not {careless}:
            raise PlatformChangedError("changed meanwhile", "again")
        for step in steps:
            self.held[step.part].pop(step.name, None)
            if step.after is not None:
                self.held[step.part][step.name] = step.after
        Memory.revision += 1
        return str(self.revision)
    def make_corner(self, name):
        from justlane.connectors import Corner
        return Corner(name)
    def remove_corner(self, corner):
        pass
    def close(self):
        pass

def connect(platform, folder, permit):
    return Memory()
'''


class ConnectorsTest(EstateTest):
    forked = True

    def foreign(self, forgets: bool = False, careless: bool = False, code: str = "") -> dict[str, str]:
        """Another package with a connector `shelf`, as if it were installed."""
        site = self.top / "site"
        info = site / "shelf-1.dist-info"
        info.mkdir(parents=True, exist_ok=True)
        (info / "METADATA").write_text("Metadata-Version: 2.1\nName: shelf\nVersion: 1\n")
        (info / "entry_points.txt").write_text("[justlane.connectors]\nshelf = shelf_connector\n")
        (site / "shelf_connector.py").write_text(code or textwrap.dedent(FOREIGN).format(forgets=forgets, careless=careless))
        return {"PYTHONPATH": str(site), "PYTHONDONTWRITEBYTECODE": "1"}

    def await_port(self, port: int, server: subprocess.Popen[bytes]) -> None:
        while server.poll() is None:
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", port)) == 0:
                    return
            time.sleep(0.05)
        self.fail("the server ended")

    def test_all_that_ship_keep_their_promises(self) -> None:
        for name in CONNECTORS:
            with self.subTest(name):
                result = self.lane(f"connector test {name} --cases 25 --seed 3 --format json").json
                self.assertEqual({p["tried"] for p in result["promises"]}, {1, 6, 25})
        for seed in (11, 14, 17):  # where changes of roles and groups meet lines that come and go
            self.lane(f"connector test http --cases 25 --seed {seed}")
        self.assertEqual({one["connector"] for one in self.lane("connector list --format json").json}, set(CONNECTORS))

    def test_another_packages_connector_is_used_and_one_that_breaks_a_promise_found_out(self) -> None:
        self.pumphall(pumphall=("\nactions:", "\nreached by: {connector: shelf, url: 'http://127.0.0.1:1', token from: environment X}\n\nactions:"))
        sound = self.foreign()
        self.assertIn("of another package", self.lane("connector list", **sound).out)
        self.lane("check --only beyond-the-platform", **sound)
        self.assertIn("nobody to ask", self.lane("connector test shelf --cases 20 --live pumphall", 2, **sound).err)
        self.lane("connector test shelf --cases 20 --live pumphall --yes", **sound)
        ran = self.lane("connector test shelf --cases 20", 1, **self.foreign(forgets=True))
        self.assertRegex(ran.out, r"broken +what is declared, said in its words and read back")
        ran = self.lane("connector test shelf --cases 5 --live pumphall --yes --format csv", 1, **self.foreign(careless=True))
        self.assertIn("it was carried out", ran.out)
        ran = self.lane("connector list", **self.foreign(code="raise OSError('no disk')"))
        self.assertIn("cannot be loaded: OSError: no disk", ran.out)
        self.assertIn("cannot be loaded", self.lane("connector test shelf", 2, PYTHONPATH=os.fspath(self.top / "site")).err)
        self.assertIn("did you mean sheet?", self.lane("connector test sheeet", 2).err)

    def test_the_template_of_the_documentation_works(self) -> None:
        template = Path(__file__).parent.parent / "docs" / "connector_template"
        site = self.foreign(code=(template / "shelf_connector.py").read_text())
        self.assertIn('shelf = "shelf_connector"', (template / "pyproject.toml").read_text())
        self.pumphall(pumphall=("\nactions:", "\nreached by: {connector: shelf, with: {file: shelf.json}}\n\nactions:"))
        self.lane("connector test shelf --cases 40 --live pumphall --yes", **site)
        self.lane("align pumphall --yes", **site)
        before = (self.folder / "shelf.json").read_text()
        kept = json.loads(before) | {"x": {"who": "nobody.there", "action": "fly", "place": "pumphall/moon"}}
        (self.folder / "shelf.json").write_text(json.dumps(kept))
        ran = self.lane("drift pumphall --format json", 1, **site).json[0]
        self.assertIn("the estate knows no action 'fly', no place 'pumphall/moon'", ran["unjudged"][0])
        self.lane("align pumphall --yes", **site)
        self.lane("align pumphall --undo --yes --even-so back", **site)
        self.assertEqual(json.loads((self.folder / "shelf.json").read_text()), kept)
        self.lane("align pumphall --yes", **site)
        self.lane("drift pumphall", **site)
        ran = self.lane("probe pumphall --everyone", 1, **site)
        self.assertIn("Nothing was tried", " ".join(ran.out.split()))

    def test_a_service_with_numbers_pages_limits_and_a_delay(self) -> None:
        template = Path(__file__).parent.parent / "docs" / "connector_template"
        site = self.foreign(code=(template / "numbered_connector.py").read_text())
        port = free_port()
        places = ("pumphall", "pumphall/east", "pumphall/east/pump-1", "pumphall/diesel")
        server = subprocess.Popen([sys.executable, str(template / "numbered_server.py"), str(port), "the-token", "2", *places])
        self.addCleanup(server.wait)
        self.addCleanup(server.kill)
        self.await_port(port, server)
        reached = f"\nreached by: {{connector: shelf, url: 'http://127.0.0.1:{port}', token from: file secrets/token}}\n\nactions:"
        self.pumphall(pumphall=("\nactions:", reached))
        pumphall = self.folder / "pumphall.yaml"
        pumphall.write_text(
            pumphall.read_text().split("\nbindings:")[0]
            + "\nbindings:\n  - {give: watcher, to: user ada.brook, at: pumphall/east/pump-1, because: x.}\n"
        )
        self.secret("token", "the-token")
        ran = self.lane("connector test shelf --cases 10 --live pumphall --yes", **site)
        self.assertIn("what is declared is made, and nothing else", ran.out)
        self.lane("align pumphall --yes", **site)
        self.lane("drift pumphall", **site)
        self.lane("align pumphall --undo --yes", **site)
        notes = (self.folder / "journal/pumphall.jsonl").read_text()
        self.assertIn("connector test, taken back", notes)

    def test_what_a_foreign_connector_raises_is_told_as_its_own_mistake(self) -> None:
        self.pumphall(pumphall=("\nactions:", "\nreached by: {connector: shelf, url: 'http://127.0.0.1:1', token from: environment X}\n\nactions:"))
        code = textwrap.dedent(FOREIGN).format(forgets=False, careless=False)
        for broken, where in (
            (code.replace("return Reading(", "return {}['nothing'] or Reading("), "drift"),
            (code.replace("found = super()", "found = {}['nothing'] or super()"), "drift"),
        ):
            ran = self.lane(f"{where} pumphall", 3, **self.foreign(code=broken))
            self.assertIn("the connector 'shelf' (shelf_connector) made a mistake of its own: KeyError: 'nothing'", ran.err)

    def test_a_connector_needs_nothing_but_the_public_module(self) -> None:
        import justlane.connectors as public

        for name in ("shelf_connector", "numbered_connector"):
            text = (Path(__file__).parent.parent / "docs/connector_template" / f"{name}.py").read_text()
            self.assertEqual(set(re.findall(r"^from (justlane\S*) import|^import (justlane\S*)", text, re.MULTILINE)), {("justlane.connectors", "")})
        self.assertEqual(public.__all__, sorted(public.__all__))
        page = (Path(__file__).parent.parent / "docs/connectors.md").read_text()
        for name in public.__all__:
            self.assertTrue(hasattr(public, name), name)
            self.assertIn(f"`{name}`", page)

    def test_an_estate_that_names_no_connector_that_there_is(self) -> None:
        self.pumphall(pumphall=("\nactions:", "\nreached by: {connector: subvesion, file: rules}\n\nactions:"))
        found = self.lane("check --only beyond-the-platform --format json", 2).json["findings"]
        self.assertEqual([(f["line"], f["message"]) for f in found], [(9, "there is no connector 'subvesion'")])


if __name__ == "__main__":
    unittest.main()
