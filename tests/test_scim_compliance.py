"""The stand-in's SCIM endpoint, judged by a compliance tester that others wrote; and what SCIM writes counts."""

import json
import unittest

import httpx
from scim2_client.engines.httpx2 import SyncSCIMClient
from scim2_tester import Status, check_server

from tests.support import EstateTest

TOKEN = "a-token-of-the-tests"


class ScimComplianceTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def address(self) -> str:
        text = (self.folder / "platforms" / "buildyard.yaml").read_text()
        return next(line.split("url: ")[1] for line in text.splitlines() if "url: " in line)

    def test_a_tester_by_others_finds_nothing(self) -> None:
        import httpx2

        with self.standing_in("buildyard"):
            client = httpx2.Client(base_url=f"{self.address()}/scim/v2", headers={"Authorization": f"Bearer {TOKEN}"})
            self.addCleanup(client.close)
            scim = SyncSCIMClient(client)
            scim.discover()
            results = check_server(scim)
            wrong = [(r.title, r.reason) for r in results if r.status in (Status.ERROR, Status.CRITICAL)]
            self.assertEqual(wrong, [])
            self.assertGreater(sum(r.status == Status.SUCCESS for r in results), 40)

    def test_what_scim_writes_counts_and_drift_sees_it(self) -> None:
        with self.standing_in("buildyard"):
            self.lane("align buildyard --yes")
            http = httpx.Client(base_url=f"{self.address()}/scim/v2", headers={"Authorization": f"Bearer {TOKEN}"})
            self.addCleanup(http.close)
            self.assertEqual(httpx.get(f"{self.address()}/scim/v2/Users").status_code, 401)
            group = http.get("/Groups", params={"filter": 'displayName eq "release-managers"'}).json()["Resources"][0]
            who = http.get("/Users", params={"filter": 'userName eq "vik.sorrel"'}).json()["Resources"][0]
            operation = {"op": "add", "path": "members", "value": [{"value": who["id"]}]}
            patch = {"schemas": ["urn:ietf:params:scim:api:messages:2.0:PatchOp"], "Operations": [operation]}
            self.assertEqual(http.patch(f"/Groups/{group['id']}", json=patch, headers={"If-Match": 'W/"0"'}).status_code, 412)
            self.assertIn(http.patch(f"/Groups/{group['id']}", json=patch).status_code, (200, 204))
            found = self.lane("drift buildyard --format json", 1).json[0]["differences"]
            self.assertEqual([(d["part"], d["name"]) for d in found], [("groups", "release-managers")])
            self.assertGreater(found[0]["means"]["more"], 0)
            self.lane("align buildyard --yes")
            members = http.get(f"/Groups/{group['id']}").json()["members"]
            self.assertNotIn(who["id"], [m["value"] for m in members])
            self.assertEqual(http.delete(f"/Users/{who['id']}").status_code, 204)
            self.assertIn("add     1 person: vik.sorrel", self.lane("align buildyard --dry-run", 1).out)

    def test_align_writes_groups_by_scim(self) -> None:
        file = self.folder / "platforms" / "buildyard.yaml"
        with self.standing_in("buildyard"):
            file.write_text(file.read_text().replace("  connector: stand-in\n", "  connector: stand-in\n  with: {groups by: scim}\n"))
            self.lane("align buildyard --yes")
            state = json.loads((self.folder / "standin" / "buildyard.json").read_text())
            self.assertIn("forecast-developers", {kept.get("displayName") for kept in state["scim"].values()})
            self.lane("drift buildyard")
            people = self.folder / "people" / "saltmarsh.ldif"
            people.write_text(people.read_text().replace("member: uid=tamsin.quill,", "member: uid=vik.sorrel,", 1))
            self.lane("align buildyard --yes")
            self.lane("probe buildyard")

    def test_the_interface_is_described(self) -> None:
        with self.standing_in("buildyard"):
            described = httpx.get(f"{self.address()}/openapi.json").json()
            held = httpx.get(f"{self.address()}/holds", headers={"Authorization": f"Bearer {TOKEN}"}).json()
            self.assertEqual(set(described["components"]["schemas"]["holds"]["required"]), set(held))
            self.lane("align buildyard --yes")
            import jsonschema

            held = httpx.get(f"{self.address()}/holds", headers={"Authorization": f"Bearer {TOKEN}"}).json()
            schema = {"$ref": "#/components/schemas/holds", "components": described["components"]}
            jsonschema.Draft202012Validator(schema).validate(held)


if __name__ == "__main__":
    unittest.main()
