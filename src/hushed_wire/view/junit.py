"""A diagnosis as JUnit XML, so that a bench's test runner shows it: a test case for each code that was looked at."""

from __future__ import annotations

from xml.etree import ElementTree

from ..diagnosis import Diagnosis
from ..finding import codes
from ..grades import NOT_JUDGED, SEVERITIES
from ..harmless import harmless

__all__ = ["as_xml", "junit", "unusable"]


def junit(outcome: Diagnosis, path: str, fail_on: str) -> bytes:
    """One suite; findings as grave as `fail_on` are failures, others have their text in system-out."""
    suite = ElementTree.Element("testsuite", name=f"hushed-wire diagnose {path}")
    least = len(SEVERITIES) if fail_on == "never" else SEVERITIES.index(fail_on)
    failures = 0
    for finding in outcome.findings:
        case = ElementTree.SubElement(suite, "testcase", classname=path, name=finding.code, time="0")
        said = f"{finding.summary}\nnext: {finding.remedy}"
        if SEVERITIES.index(finding.severity) >= least:
            failures += 1
            failure = ElementTree.SubElement(case, "failure", type=finding.severity, message=finding.summary)
            lines = [f"{key}: {value}" for key, value in finding.evidence.items()]
            failure.text = "\n".join([said, *lines, *([f"lines: {', '.join(finding.lines)}"] if finding.lines else [])])
        else:
            ElementTree.SubElement(case, "system-out").text = f"{finding.severity}: {said}"
    named = {finding.code for finding in outcome.findings}
    known = {entry["code"] for entry in outcome.ruled_out}
    # The same cases for every capture: what was looked for in vain has passed, of all else nothing could be said.
    for code in codes():
        if code not in named and not code.startswith("rig."):
            case = ElementTree.SubElement(suite, "testcase", classname=path, name=code, time="0")
            if code not in known:
                ElementTree.SubElement(case, "skipped", message="nothing was found, and nothing speaks against it")
    if outcome.judgement == NOT_JUDGED and not failures:
        case = ElementTree.SubElement(suite, "testcase", classname=path, name="judgement", time="0")
        ElementTree.SubElement(case, "error", type=NOT_JUDGED, message=outcome.verdict).text = "\n".join(outcome.untold)
        return as_xml(suite, failures, 1)
    return as_xml(suite, failures)


def unusable(path: str, error: str) -> bytes:
    """A suite of a capture that could not be looked at."""
    suite = ElementTree.Element("testsuite", name=f"hushed-wire diagnose {path}")
    case = ElementTree.SubElement(suite, "testcase", classname=path, name="capture", time="0")
    ElementTree.SubElement(case, "error", type="unusable", message=error)
    return as_xml(suite, 0, 1)


def as_xml(suite: ElementTree.Element, failures: int, errors: int = 0) -> bytes:
    """A suite as bytes, counted, with nothing in it that a terminal would obey."""
    suite.set("tests", str(len(suite)))
    suite.set("failures", str(failures))
    suite.set("skipped", str(len(suite.findall("testcase/skipped"))))
    suite.set("errors", str(errors))
    for element in suite.iter():  # XML has no way to say what a terminal would obey
        element.text = element.text and harmless(element.text)
        element.attrib.update({key: harmless(value) for key, value in element.attrib.items()})
    ElementTree.indent(suite)
    body: bytes = ElementTree.tostring(suite, encoding="utf-8")
    return b'<?xml version="1.0" encoding="UTF-8"?>\n' + body + b"\n"
