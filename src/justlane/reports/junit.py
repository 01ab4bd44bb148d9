"""JUnit XML, which build servers read, written with junitparser."""

from __future__ import annotations

from justlane.engine.questions.expectations import Verdict


def document(verdicts: tuple[Verdict, ...]) -> str:
    """Verdicts as a test suite, one test case for each expectation."""
    from junitparser import Failure, JUnitXml, TestCase, TestSuite

    suite = TestSuite("expectations")
    for v in verdicts:
        case = TestCase(v.sentence, classname=v.expectation.source.line_address)
        if not v.holds:
            failure = Failure(v.evidence[0].fact, "expectation")
            failure.text = "\n".join(
                f"{e.source.line_address if e.source else ''} {e.fact}".strip() for e in v.evidence
            )
            case.result = [failure]
        suite.add_testcase(case)
    suites = JUnitXml("justlane verify")
    suites.add_testsuite(suite)
    written: bytes = suites.tostring()  # type: ignore[no-untyped-call] # junitparser has no annotation there
    return written.decode() + "\n"
