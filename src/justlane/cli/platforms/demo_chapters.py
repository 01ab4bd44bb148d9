"""What the demo shows: chapter by chapter, and in a minute."""

from __future__ import annotations

from typing import NamedTuple

PLATFORMS = {
    "fieldnet": "8471",
    "buildyard": "8472",
    "planboard": "8473",
    "sourcebank": "8474",
    "quayside": "8475",
    "siltstore": "8476",
}
"""The platforms of the sample estate that have a stand-in, with the port in its files."""

MATCHING = [["align", name, "--yes", "--because", "first set-up"] for name in PLATFORMS]
"""What makes every platform match, the first time."""

BUOY = "fieldnet/north/harbour/nb-07"

WALK: list[tuple[str, list[list[str]]]] = [
    ("Read the directory and check the estate: what is wrong, and what follows from it", [["check"]]),
    ("What could go without changing anything for anybody", [["tidy", "--dry-run"]]),
    (
        "May Lotte, of the northern crew, read the log of a buoy in the south? Yes, and why",
        [["ask", "lotte.marsh", "read-log", "fieldnet/south/bar/sb-11"]],
    ),
    (
        "May Joost, of the southern crew, restart one in the north? No, and what would change it",
        [["ask", "joost.baan", "restart-station", BUOY]],
    ),
    (
        "The same for Joost himself, to be pasted into his ticket",
        [["ask", "joost.baan", "restart-station", BUOY, "--for-user"]],
    ),
    ("Everybody beside everything, at a glance", [["glance", "--groups"]]),
    ("All that the contractor Vik reaches", [["reach", "vik.sorrel"]]),
    ("Everyone who may choose the harbour's crew", [["holders", "manage-crew", "fieldnet/north/harbour"]]),
    (
        "May Yara correct the archive? Only if; in one situation it is a no",
        [
            ["ask", "yara.flint", "correct-series", "siltstore/checked/buoys"],
            ["ask", "yara.flint", "correct-series", "siltstore/checked/buoys", "--situation", "on-the-boat"],
        ],
    ),
    ("Does everything hold that we expect of this estate?", [["verify"]]),
    (
        "Make six platforms match what is declared, each with habits of its own",
        [list(words) for words in MATCHING],
    ),
    ("Prove it: ask and try, as every person", [["probe", name, "--everyone"] for name in PLATFORMS]),
    ("The whole estate as one page, for whoever takes it over: estate.html", [["report", "estate.html"]]),
    (
        "A role made from another one, without what is not meant; given at a resource group, proved, and taken back",
        [
            ["role", "compare", "station-keeper", "log-reader"],
            ["role", "copy", "station-keeper", "night-keeper", "--for", "Keeps stations alive at night.", "--yes"],
            ["role", "except", "night-keeper", "update-firmware", "--yes"],
            [
                "give",
                "night-keeper",
                "--to",
                "group contractors",
                "--at",
                "fieldnet/storm-watch",
                "--because",
                "In a storm the contractors keep watch too.",
                "--yes",
            ],
            ["align", "fieldnet", "--yes", "--because", "storm season"],
            ["probe", "fieldnet"],
            *[["undo", "--yes"]] * 3,
            ["align", "fieldnet", "--yes", "--because", "the storm is over"],
        ],
    ),
    (
        "Somebody makes a grant by hand, behind our back. Probing finds what it gives, aligning mends it",
        [
            ["meddle", "buildyard", "grant", "tamsin.quill", "release-publisher", "buildyard/release"],
            ["probe", "buildyard", "--everyone"],
            ["align", "buildyard", "--yes", "--because", "nobody asked for it"],
            ["probe", "buildyard", "--everyone"],
        ],
    ),
]
"""What the whole walk shows: a heading, and the commands under it."""


class Shown(NamedTuple):
    """A command of the short show, and which of its lines are shown."""

    words: list[str]
    kept: tuple[str, ...] = ()
    """How lines begin that are shown; none for all."""
    estate: str = ""
    """Where it is run: the sample estate, or the grown one in a folder of this name inside of it."""


GROWN = "tideboard"
"""The folder of the estate that has grown, inside of the sample estate."""
HIDDEN = ("meddle", "buildyard", "two-faced", "odd.pilcher", "see-pipeline", "buildyard/forecast/tide-model")
"""What lets somebody in whom the platform, asked, denies."""

TAKING_OVER = [["scope", "pull", "tideboard", "--yes"], ["drift", "tideboard", "--adopt", "--yes"]]
"""What takes the grown platform over, grant by grant."""

MINUTE: list[tuple[str, list[Shown]]] = [
    (
        "May Lotte read the log of a buoy in the south? Yes, and through which lines",
        [Shown(["ask", "lotte.marsh", "read-log", "fieldnet/south/bar/sb-11"])],
    ),
    (
        "What would an edit change, for whom, before it is saved?",
        [
            Shown(
                [
                    "give",
                    "station-keeper",
                    "--to",
                    "auditors",
                    "--at",
                    "fieldnet/inland",
                    "--because",
                    "Asked.",
                    "--dry-run",
                ],
                ("bindings/", "   2", "effect", "agnes.thorn", "  gains", " " * 10),
            )
        ],
    ),
    (
        "A board that grew for ten years, taken over: which few lines say the same?",
        [
            Shown(
                ["regroup", "tideboard"],
                (*(f"{n}. " for n in range(1, 10)), "tideboard:", "  then ", "  weight ", "nobody "),
                GROWN,
            )
        ],
    ),
    (
        "A platform says it is as declared, and secretly lets Odd in: trying finds it",
        [
            Shown(["drift", "buildyard"]),
            Shown(
                ["probe", "buildyard", "--everyone", "--afresh"],
                ("differs", "  shown", "  ·", "     declared"),
            ),
        ],
    ),
]
"""What the short show shows: a heading, and the commands under it."""

NEXT = """\
The estate stays in {folder}. Try next:

  cd {folder}
  justlane reach imke.vos fieldnet/north      what one person may do
  justlane holders update-firmware {buoy}
  justlane ask petra.loam run-pipeline buildyard/forecast/nightly
  justlane people show hedda.crane            whose account is disabled, but who is still bound
  justlane people pull                        keep who there is; after a change pull again, then
  justlane people changes                     who moved, and what access that gave or took
  justlane standin fieldnet &                 start a platform again, then
  justlane meddle fieldnet stale-role station-watcher silence-alarm
  justlane probe fieldnet --everyone          find what reading alone cannot see
  justlane suggest joost.baan restart-station {buoy}
  justlane give log-reader --to auditors --at fieldnet/inland --because "They asked." --dry-run
  justlane journal show                       what was edited in this walk, and taken back
  justlane check --fix                        mend what an edit can mend
  justlane chart flow fieldnet --picture flow.png
  justlane review out to-the-owners           a workbook for each owner of places and roles
"""

AND_MORE = """\
The estate stays in {folder}, the taken over one in {folder}/tideboard.
Try next:

  justlane demo {folder} --all     the whole job, chapter by chapter
  cd {folder} && justlane check    what is wrong there, and what follows
"""
