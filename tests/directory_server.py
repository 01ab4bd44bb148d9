"""A directory server (slapd) of the tests' own: data, TLS, password policy, limits; and a server that only misbehaves."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import threading
import unittest
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

import trustme

from tests.patience import finished, until
from tests.support import free_port

with warnings.catch_warnings():
    warnings.simplefilter("ignore", DeprecationWarning)
    import ldap3  # noqa: F401 - it uses old names of pyasn1, which is none of our tests' business

SUFFIX = "dc=saltmarsh,dc=example"
SECRET = "the-tide-turns"
_SLAPD = shutil.which("slapd", path=f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/lib/openldap")

_CONFIG = """
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
include /etc/ldap/schema/nis.schema
include /etc/ldap/schema/dyngroup.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload ppolicy
moduleload dynlist
pidfile {folder}/pid
argsfile {folder}/args
TLSCACertificateFile {folder}/ca.pem
TLSCertificateFile {folder}/{certificate}.pem
TLSCertificateKeyFile {folder}/{certificate}.key
TLSVerifyClient try
authz-regexp "cn=reader.*" "cn=reader,{suffix}"
authz-regexp "gidNumber=.*,cn=peercred,cn=external,cn=auth" "cn=reader,{suffix}"
sizelimit 500000
database mdb
maxsize 2147483648
suffix {suffix}
rootdn cn=root,{suffix}
directory {folder}/data
dbnosync
index objectClass eq
overlay ppolicy
ppolicy_default cn=policy,{suffix}
ppolicy_use_lockout
overlay dynlist
dynlist-attrset groupOfURLs memberURL member+memberOf@groupOfNames*
limits dn.exact="cn=limited,{suffix}" size.pr=5 size.prtotal=12
limits dn.exact="cn=no-pages,{suffix}" size.prtotal=disabled
limits dn.exact="cn=narrow,{suffix}" size.pr=3
access to attrs=member,uniqueMember,memberUid by dn.exact="cn=no-members,{suffix}" none by * read
access to attrs=userPassword by anonymous auth by * none
access to dn.subtree="ou=hidden,{suffix}" by dn.exact="cn=root,{suffix}" read by * none
access to * by dn.exact="cn=blind,{suffix}" search by * read
"""

_ACCOUNTS = {
    "reader": "",
    "limited": "",
    "narrow": "",
    "blind": "",
    "no-members": "",
    "no-pages": "",
    "stale": "pwdChangedTime: 20200101000000Z\n",
    "fresh": "pwdReset: TRUE\n",
    "locked": f"pwdAccountLockedTime: {datetime.now(UTC):%Y%m%d%H%M%S}Z\n",
}
"""Reading accounts, by what is the matter with them, with the operational attribute that makes it so."""


def entries() -> str:
    """The root, the policy, and the reading accounts."""
    head = f"dn: {SUFFIX}\nobjectClass: dcObject\nobjectClass: organization\no: Saltmarsh\ndc: saltmarsh\n\n"
    for unit in ("people", "groups", "hidden", "empty"):
        head += f"dn: ou={unit},{SUFFIX}\nobjectClass: organizationalUnit\nou: {unit}\n\n"
    head += (
        f"dn: cn=policy,{SUFFIX}\nobjectClass: device\nobjectClass: pwdPolicy\ncn: policy\n"
        "pwdAttribute: userPassword\npwdMaxAge: 31536000\npwdLockout: TRUE\npwdMustChange: TRUE\npwdMaxFailure: 50\n\n"
        f"dn: ou=elsewhere,{SUFFIX}\nobjectClass: referral\nobjectClass: extensibleObject\nou: elsewhere\n"
        f"ref: ldap://other.saltmarsh.example/ou=elsewhere,{SUFFIX}\n\n"
    )
    for name, operational in _ACCOUNTS.items():
        head += (
            f"dn: cn={name},{SUFFIX}\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: {name}\n"
            f"userPassword: {SECRET}\n{operational}\n"
        )
    return head


class Authority:
    """Certificates for tests, good ones and bad ones."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        own, stranger = trustme.CA(), trustme.CA()
        own.cert_pem.write_to_path(folder / "ca.pem")
        stranger.cert_pem.write_to_path(folder / "other-ca.pem")
        long_ago = datetime.now(UTC) - timedelta(days=2)
        self._keep("good", own.issue_cert("localhost", "127.0.0.1"))
        self._keep("other-host", own.issue_cert("elsewhere.saltmarsh.example"))
        self._keep("expired", own.issue_cert("localhost", "127.0.0.1", not_after=long_ago))
        self._keep("early", own.issue_cert("localhost", not_before=datetime.now(UTC) + timedelta(days=2)))
        self._keep("reader", own.issue_cert("reader.saltmarsh.example", common_name="reader"))

    def _keep(self, name: str, made: trustme.LeafCert) -> None:
        made.private_key_pem.write_to_path(self.folder / f"{name}.key")
        (self.folder / f"{name}.key").chmod(0o600)
        (self.folder / f"{name}.pem").unlink(missing_ok=True)
        for part in made.cert_chain_pems:
            part.write_to_path(self.folder / f"{name}.pem", append=True)


class DirectoryServer:
    """One running slapd."""

    def __init__(self, folder: Path, content: str, certificate: str = "good") -> None:
        if _SLAPD is None:
            raise unittest.SkipTest("slapd is not installed")
        self.folder = folder
        self.plain, self.safe = free_port(), free_port()
        self.socket = f"ldapi://{str(folder / 'socket').replace('/', '%2F')}"
        (folder / "data").mkdir()
        config = folder / "slapd.conf"
        config.write_text(_CONFIG.format(folder=folder, suffix=SUFFIX, certificate=certificate))
        (folder / "content.ldif").write_text(entries() + content)
        adding = [_SLAPD, "-T", "add", "-q", "-f", str(config), "-l", str(folder / "content.ldif")]
        done = subprocess.run(adding, capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
        hosts = f"ldap://127.0.0.1:{self.plain} ldaps://127.0.0.1:{self.safe} {self.socket}"
        self._log = (folder / "log").open("w")
        self.process = subprocess.Popen([_SLAPD, "-f", str(config), "-h", hosts, "-d", "0"], stderr=self._log)
        self._await()

    def _await(self) -> None:
        def answers() -> bool:
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", self.safe)) == 0:
                    return True
            assert self.process.poll() is None, (self.folder / "log").read_text()
            return False

        until(answers, (self.folder / "log").read_text)

    def stop(self) -> None:
        self.process.send_signal(signal.SIGTERM)
        finished(self.process)
        self._log.close()

    def tool(self, name: str, *words: str) -> str:
        """What one of the system's own LDAP commands answers."""
        found = shutil.which(name)
        if found is None:
            raise unittest.SkipTest(f"{name} is not installed")
        account = ("-Q", "-Y", "EXTERNAL", "-H", self.socket)
        return subprocess.run([found, *account, "-LLL", *words], capture_output=True, text=True, check=True).stdout


@contextmanager
def answering(serve: Callable[[socket.socket], None]) -> Iterator[int]:
    """A port where every connection is served by a function, for servers that only misbehave."""
    listener = socket.create_server(("127.0.0.1", 0))

    def loop() -> None:
        while True:
            try:
                connection, _ = listener.accept()
            except OSError:
                return
            with connection:
                try:
                    serve(connection)
                except OSError:
                    continue

    thread = threading.Thread(target=loop, daemon=True)
    thread.start()
    try:
        yield int(listener.getsockname()[1])
    finally:
        listener.shutdown(socket.SHUT_RDWR)
        listener.close()
        thread.join(timeout=5)
