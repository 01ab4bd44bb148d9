"""JUnit XML, which build servers read, written with junitparser."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from justlane.engine.questions.expectations import Verdict
from justlane.model.findings import Severity
from justlane.platforms.proof.probe import ProbeResult
from justlane.reports.checks.checked import Checked
from justlane.reports.checks.rules import says
from justlane.reports.platforms.probe import sheet as found_by
from justlane.rules.interface import RULES, rule


def verdicts(result: tuple[Verdict, ...]) -> str:
    """Verdicts as a test suite, one test case for each expectation."""
    from junitparser import Failure, TestCase, TestSuite

    suite = TestSuite("expectations")
    for v in result:
        case = TestCase(v.sentence, classname=v.expectation.source.line_address)
        if not v.holds:
            failure = Failure(v.evidence[0].fact, "expectation")
            failure.text = "\n".join(
                f"{e.source.line_address if e.source else ''} {e.fact}".strip() for e in v.evidence
            )
            case.result = [failure]
        suite.add_testcase(case)
    return _written("justlane verify", suite)


def findings_suite(result: Checked) -> str:
    """Findings as a test suite: a failed case for each, a passed one for each rule that found nothing; notes pass."""
    from junitparser import Failure, TestCase, TestSuite

    suite = TestSuite("rules")
    failing = [flaw for flaw in result.flaws if flaw.severity is not Severity.NOTE]
    for flaw in failing:
        case = TestCase(f"{flaw.rule}: {flaw.message}", classname=flaw.source.line_address)
        failure = Failure(flaw.message, flaw.rule)
        failure.text = "\n".join(part for part in (str(flaw.source), flaw.consequence, flaw.hint) if part)
        case.result = [failure]
        suite.add_testcase(case)
    found = {flaw.rule for flaw in failing}
    for name in result.asked:
        if name not in found and name in RULES:
            suite.add_testcase(TestCase(f"{name}: {says(rule(name))}", classname="rules"))
    return _written("justlane check", suite)


def probe_suite(result: ProbeResult) -> str:
    """A probe as a test suite: a case for each place and action (or sign-in) that differs, and one for the whole."""
    from junitparser import Failure, TestCase, TestSuite

    suite = TestSuite("probe")
    counts = f"{result.people:,} people at {result.scopes:,} scopes, {result.asked:,} asked, {result.tried:,} tried"
    whole = TestCase(f"everybody gets what is declared ({counts})", classname=result.platform)
    rows = found_by(result).rows
    if rows:
        whole.result = [Failure(f"{len(rows):,} differences", "probe")]
    suite.add_testcase(whole)
    for user, action, scope, declared, said, does in rows:
        case = TestCase(f"{user} {action} at {scope}", classname=result.platform)
        told = f"declared {declared}, the platform says {said or 'nothing'}, trying gives {does}"
        case.result = [Failure(told, "probe")]
        suite.add_testcase(case)
    return _written("justlane probe", suite)


def _written(name: str, suite: Any) -> str:
    from junitparser import JUnitXml

    suites = JUnitXml(name)
    suites.add_testsuite(suite)
    written: bytes = suites.tostring()  # type: ignore[no-untyped-call] # junitparser has no annotation there
    return written.decode() + "\n"


DOCUMENTS: dict[str, Callable[[Any], str]] = {
    "Verdicts": verdicts,
    "Checked": findings_suite,
    "ProbeResult": probe_suite,
}
"""Kind of result -> what writes it."""
