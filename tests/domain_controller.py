"""A domain controller (Samba) of the tests' own on loopback, with a few people, groups and machines in it."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import unittest
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from tests.patience import finished, until

PASSWORD = "The-tide-turns-1"
BASE = "DC=saltmarsh,DC=example"
_PATH = f"{os.environ.get('PATH', '')}:/usr/sbin"
_FILL = """
import sys
from samba.auth import system_session
from samba.param import LoadParm
from samba.samdb import SamDB

lp = LoadParm(); lp.load(sys.argv[1])
sam = SamDB(url=sys.argv[2], session_info=system_session(), lp=lp)
base = "DC=saltmarsh,DC=example"
for unit in ("Harbour", "Radar"):
    sam.add({"dn": f"OU={unit},{base}", "objectClass": "organizationalUnit"})
for login, unit, name in (("imke", "Harbour", "Vos, Imke"), ("bram", "Harbour", "Bram Tolland"), ("edda", "Radar", "Edda Stroom"), ("over", "Radar", "Olav Over"), ("soon", "Radar", "Sun Soon")):
    dn = "CN=%s,OU=%s,%s" % (name.replace(",", "\\\\,"), unit, base)
    sam.add({"dn": dn, "objectClass": "user", "sAMAccountName": login, "displayName": name, "userAccountControl": "544"})
for login, ends in (("over", "133801632000000000"), ("soon", "159017472000000000"), ("edda", "9223372036854775807")):
    found = sam.search(base, expression=f"(sAMAccountName={login})")[0]
    sam.modify_ldif(f"dn: {found.dn}\\nchangetype: modify\\nreplace: accountExpires\\naccountExpires: {ends}\\n")
sam.add({"dn": f"CN=WS01,CN=Computers,{base}", "objectClass": "computer", "sAMAccountName": "WS01$", "userAccountControl": "4096"})
for unit, group in (("Harbour", "crew"), ("Radar", "crew"), ("Harbour", "watch"), ("Harbour", "ship")):
    called = group if unit == "Harbour" else "radar-crew"
    sam.add({"dn": f"CN={group},OU={unit},{base}", "objectClass": "group", "sAMAccountName": called, "description": f"{called}."})
members = {"CN=crew,OU=Harbour": ["CN=Vos\\\\, Imke,OU=Harbour"], "CN=ship,OU=Harbour": ["CN=watch,OU=Harbour", "CN=crew,OU=Harbour"], "CN=watch,OU=Harbour": ["CN=Edda Stroom,OU=Radar"], "CN=crew,OU=Radar": ["CN=Edda Stroom,OU=Radar"]}
for group, some in members.items():
    for one in some:
        sam.modify_ldif(f"dn: {group},{base}\\nchangetype: modify\\nadd: member\\nmember: {one},{base}\\n")
watch = sam.search(base, expression="(sAMAccountName=watch)", attrs=["primaryGroupToken"])[0]
for dn in ("CN=Edda Stroom,OU=Radar",):
    sam.modify_ldif(f"dn: {dn},{base}\\nchangetype: modify\\nreplace: primaryGroupID\\nprimaryGroupID: {watch['primaryGroupToken'][0].decode()}\\n")
"""


@contextmanager
def domain_controller(folder: Path) -> Iterator[None]:
    """The controller, on the ports that such a server always has; skipped where it is not installed, or they are taken."""
    tool, server = (shutil.which(name, path=_PATH) for name in ("samba-tool", "samba"))
    if tool is None or server is None or os.geteuid() != 0:
        raise unittest.SkipTest("a domain controller needs root, and Samba: apt-get install samba samba-ad-dc samba-ad-provision winbind")
    words = ["--realm=SALTMARSH.EXAMPLE", "--domain=SALTMARSH", "--server-role=dc", "--use-rfc2307", "--dns-backend=NONE", f"--targetdir={folder}"]
    words += ["--option=interfaces=lo", "--option=bind interfaces only=yes", f"--adminpass={PASSWORD}"]
    subprocess.run([tool, "domain", "provision", *words], check=True, capture_output=True, timeout=600)
    config = folder / "etc/smb.conf"
    text = config.read_text().replace("[global]", "[global]\n\tldap server require strong auth = no\n\tpid directory = " + str(folder))
    lines = [line for line in text.splitlines() if "server services" not in line and "log file" not in line]
    config.write_text("\n".join(lines).replace("[global]", f"[global]\n\tserver services = ldap\n\tlog file = {folder}/log"))
    filled = subprocess.run(
        ["/usr/bin/python3", "-c", _FILL, str(config), str(folder / "private/sam.ldb")], check=False, capture_output=True, text=True, timeout=120
    )
    assert filled.returncode == 0, filled.stderr
    with (folder / "said").open("w") as said:
        process = subprocess.Popen([server, "-s", str(config), "-i"], stdout=said, stderr=said, start_new_session=True)
        try:
            _await(process, folder / "said")
            yield
        finally:
            os.killpg(process.pid, signal.SIGTERM)
            finished(process)
            with suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)


def _await(process: subprocess.Popen[bytes], said: Path) -> None:
    def answers() -> bool:
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", 389)) == 0:
                return True
        assert process.poll() is None, said.read_text()
        return False

    until(answers, said.read_text, 0.1)
