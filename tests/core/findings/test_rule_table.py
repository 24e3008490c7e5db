"""The table of rules against the rules themselves."""

import ast
from pathlib import Path

from shapes import straight

from kestrav.core.document import edits
from kestrav.core.findings import rule_table
from kestrav.core.findings.check import check

ROOT = Path(__file__).parents[3]
FOLDER = ROOT / "src" / "kestrav" / "core" / "findings" / "rules"


def told_in(file):
    """The ids that a file's findings can have: what is given as a rule, and what looks like an id where that is a name."""
    tree = ast.parse(file.read_text())
    strings = set()
    for call in (n for n in ast.walk(tree) if isinstance(n, ast.Call)):
        for word in call.keywords:
            if word.arg == "rule":
                strings |= {
                    n.value for n in ast.walk(word.value) if isinstance(n, ast.Constant) and isinstance(n.value, str)
                }
        for given in call.args:
            if isinstance(given, ast.Constant) and given.value in {r.id for r in rule_table.RULES}:
                strings.add(given.value)
    return strings


def test_no_two_rules_have_the_same_id_and_every_id_that_is_told_is_in_the_table():
    ids = [rule.id for rule in rule_table.RULES]
    assert len(ids) == len(set(ids))
    by_file = {}
    for rule in rule_table.RULES:
        by_file.setdefault(Path(rule.find.__code__.co_filename).stem, set()).add(rule.id)
    files = {file.stem: told_in(file) for file in FOLDER.glob("*.py") if file.stem != "__init__"}
    assert {name: ids for name, ids in files.items() if ids} == by_file


def test_what_is_found_is_told_as_the_table_has_it(passing):
    # a cube that is too near, comes too late, and whose path turns back and has a point twice
    points = ((-100, 0, 0), (0, 0, 0), (0.001, 0, 0), (100, 0, 0), (20, 0, 0))
    project = edits.update(passing.project, "path-1", shape=straight(*points))
    project = edits.update(project, "run-1", arrive_by=1.0)
    known = {rule.id: rule for rule in rule_table.RULES}
    findings = check(project, passing.meshes).findings
    assert len({finding.rule for finding in findings}) >= 4
    for finding in findings:
        rule = known[finding.rule]
        order = ("note", "warning", "breach")
        assert order.index(finding.severity) <= order.index(rule.severity)


def test_the_document_lists_the_table():
    page = (ROOT / "docs" / "rules.md").read_text()
    assert rule_table.as_text() in page
    for rule in rule_table.RULES:
        assert (
            rule.says
            and rule.source
            and (
                rule.limit is not None
                or rule.source != rule_table.PRACTICE
                or rule.setting
                or not rule.unit
                or rule.id in UNEVEN
            )
        )


# their limits go with sizes, and are told in each finding
UNEVEN = {"undirected-end", "doubled-point"}
