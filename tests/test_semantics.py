"""The page on semantics: each of its examples is run, and says what the page says."""

import io
import re
import shlex
import unittest
from typing import Any

from ruamel.yaml import YAML

from tests.support import DEMO, EstateTest

PAGE = (DEMO.parent.parent.parent / "docs" / "semantics.md").read_text()
PEOPLE = {"mechanics": ["uid=ada"], "staff": ["uid=ada", "uid=ben"], "crew": ["cn=mechanics"]}
LDIF = "version: 1\n" + "".join(
    f"\ndn: uid={login},dc=depot\nobjectClass: person\nuid: {login}\n{'loginDisabled: TRUE' + chr(10) if login == 'dora' else ''}"
    for login in ("ada", "ben", "cleo", "dora")
) + "".join(
    f"\ndn: cn={name},dc=depot\nobjectClass: groupOfNames\ncn: {name}\n" + "".join(f"member: {m},dc=depot\n" for m in members)
    for name, members in PEOPLE.items()
)  # fmt: skip
ESTATE = "estate: Depot\ntime zone: Europe/Amsterdam\ndirectories: {office: {ldif: people.ldif}}\ninclude: depot.yaml\n"


def loaded(text: str) -> dict[str, Any]:
    value = YAML(typ="rt").load(text)
    assert isinstance(value, dict)
    return value


class SemanticsTest(EstateTest):
    forked = True

    def test_every_example_of_the_page(self) -> None:
        base, *examples = re.findall(r"```yaml\n(.*?)```(?:\n\n```console\n(.*?)```)?", PAGE, re.DOTALL)
        self.assertEqual(len(examples), 17)
        for text, console in examples:
            whole = io.StringIO()
            YAML(typ="rt").dump({**loaded(base[0]), **loaded(text)}, whole)
            self.write({"estate.yaml": ESTATE, "people.ldif": LDIF, "depot.yaml": whole.getvalue()})
            for asked, said in re.findall(r"\$ justlane (.*)\n((?:(?!\$).*\n)+)", console):
                with self.subTest(asked=asked, text=text):
                    ran = self.run_lane(*shlex.split(asked))
                    self.assertTrue(ran.out.startswith(said), ran)


if __name__ == "__main__":
    unittest.main()
