"""Drills as a JUnit report, for pipelines that read one: a suite for each drill, a case for each expectation."""

from collections.abc import Sequence
from xml.etree import ElementTree

from northgate.engine.reports import DrillAnswer


def junit_report(plan: str, answers: Sequence[DrillAnswer]) -> str:
    """The report as XML."""
    cases = [len(answer.expect) for answer in answers]
    failures = [sum(not one.held for one in answer.expect) for answer in answers]
    root = ElementTree.Element("testsuites", name=plan, tests=str(sum(cases)), failures=str(sum(failures)))
    for answer, tests, failed in zip(answers, cases, failures, strict=True):
        suite = ElementTree.SubElement(
            root, "testsuite", name=answer.name, tests=str(tests), failures=str(failed), errors="0", skipped="0"
        )
        for one in answer.expect:
            case = ElementTree.SubElement(
                suite, "testcase", classname=f"{plan}.{answer.name}", name=f"{one.reading} {one.wanted}"
            )
            if not one.held:
                ElementTree.SubElement(case, "failure", message=f"got {one.got:.6g}").text = answer.summary
        ElementTree.SubElement(suite, "system-out").text = answer.summary
    ElementTree.indent(root)
    return ElementTree.tostring(root, encoding="unicode", xml_declaration=True) + "\n"
