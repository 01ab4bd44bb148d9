"""People from a real domain controller: the sample configuration of docs/directories.md, and what bites there."""

import re
import tempfile
from pathlib import Path

from tests.domain_controller import BASE, PASSWORD, domain_controller
from tests.support import EstateTest

DOCS = Path(__file__).parent.parent / "docs" / "directories.md"


def sample(heading: str) -> str:
    """The sample configuration under a heading of the page."""
    part = DOCS.read_text().partition(f"### {heading}\n")[2]
    found = re.search(r"```yaml\n(.*?)```", part, re.DOTALL)
    assert found, heading
    return found.group(1)


class DomainControllerTest(EstateTest):
    @classmethod
    def setUpClass(cls) -> None:
        place = tempfile.TemporaryDirectory(prefix="dc", ignore_cleanup_errors=True)
        cls.addClassCleanup(place.cleanup)
        cls.enterClassContext(domain_controller(Path(place.name)))

    def pull(self, code: int = 0, **changed: str) -> str:
        text = sample("A domain controller").replace("ldaps://dc1.saltmarsh.example", changed.pop("url", "ldap://127.0.0.1:389"))
        text = text.replace("sign in as:", "encryption: none\n      sign in as:").replace(
            "password from: environment OFFICE_PASSWORD", "password from: file secrets/dc"
        )
        text = text.replace("CN=reader,CN=Users", "CN=Administrator,CN=Users")
        for key, line in changed.items():
            text = re.sub(rf"^      {key}:.*$", f"      {line}", text, flags=re.MULTILINE)
        self.write({"estate.yaml": f"estate: Office\ntime zone: Europe/Amsterdam\n{text}"})
        self.secret("dc", PASSWORD)
        ran = self.lane("people pull", code)
        return " ".join((ran.out + ran.err).split())

    def groups_of(self, login: str) -> set[str]:
        return {b["group"] for b in self.lane(f"people show {login} --format json").json["in"]}

    def test_the_sample_configuration_reads_it_all(self) -> None:
        self.pull()
        logins = {u["user"] for u in self.lane("people find --format json *").json["users"]}
        self.assertLessEqual({"imke", "bram", "edda", "over", "soon"}, logins)
        self.assertNotIn("WS01$", logins, "a machine is nobody")
        self.assertEqual(self.groups_of("imke") & {"crew", "radar-crew", "ship", "watch"}, {"crew", "ship"})
        self.assertEqual(
            self.groups_of("edda") & {"watch", "ship", "radar-crew"}, {"watch", "ship", "radar-crew"}, "a primary group, and what holds it"
        )
        self.assertIn("Domain Users", self.groups_of("bram"))
        self.assertEqual(self.lane("people show soon --format json").json["until"], "2104-11-28")
        self.assertIn("until 2025-01-01, and nothing after that", self.lane("people show over").out)

    def test_without_a_base_its_own_parts_are_no_gap(self) -> None:
        text = self.pull(people="people: {schema: user}", groups="groups: {schema: group, name: sAMAccountName}")
        self.assertIn("it lies at ldap://saltmarsh.example/CN=Configuration", text)
        self.assertIn("Domain Users", self.groups_of("bram"))

    def test_two_of_one_name_are_told_how_to_be_told_apart(self) -> None:
        said = self.pull(2, groups=f'groups: {{schema: group, under: ["OU=Harbour,{BASE}", "OU=Radar,{BASE}"]}}')
        self.assertIn("there is a second group named 'crew'", said)
        self.assertIn("`groups: {name: sAMAccountName}`", said)

    def test_the_global_catalogue_is_a_way_too(self) -> None:
        self.pull(url="ldap://127.0.0.1:3268")
        self.assertIn("Domain Users", self.groups_of("bram"))
