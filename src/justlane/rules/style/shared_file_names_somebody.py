"""shared-file-names-somebody: a file that several estates or teams share names a person or a group.

Some keep what is shared (roles, the shape of platforms) apart from what is their own: shared files then name nobody, so
that they can be handed on as they are. Asked only where an estate sets a severity.

Passes:
    findings: {shared-file-names-somebody: {severity: warning, files: shared/*}}

Fails:
    findings: {shared-file-names-somebody: {severity: warning, files: hall.yaml}}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity, Source
from justlane.model.patterns import is_like
from justlane.rules.inspection import Flaw, Inspection, Option, Options

ID = "shared-file-names-somebody"
SEVERITY: Severity | None = None
OPTIONS: Options = {
    "files": Option(("roles/*",), "the files that are shared, as they are named in the estate; * matches"),
}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each line of such a file that names somebody."""
    wanted = at.words("files")
    for source, what, name in sorted(set(_naming(at))):
        if any(is_like(pattern, source.file) for pattern in wanted):
            message = f"{source.file} is shared, and {what} names {name}"
            yield at.flaw(source, message, "move it into a file that is not shared", about=(name, source.file))


def _naming(at: Inspection) -> Iterator[tuple[Source, str, str]]:
    for binding in at.estate.bindings:
        if binding.principal.name:
            yield binding.source, "a line", str(binding.principal)
    for platform in at.estate.platforms.values():
        for local in platform.local_groups.values():
            for held in local.members:
                yield held.source, f"the local group {local.name}", str(held.member)
        for publication in platform.publications:
            yield publication.source, "a publication", f"group {publication.group}"
        for role in platform.roles.values():
            if role.owner:
                yield role.source, f"the role {role.name}", str(role.owner)
