"""Actions without a window: a session, and prompts that keep what is said."""

from types import SimpleNamespace

import pytest
from PySide6.QtWidgets import QMenu, QWidget

from kestrav.app.actions.clearance_actions import ClearanceActions
from kestrav.app.actions.contact_actions import ContactActions
from kestrav.app.actions.extraction_actions import ExtractionActions
from kestrav.app.actions.finish_actions import FinishActions
from kestrav.app.actions.prompts import Prompts
from kestrav.app.cards.card import Card
from kestrav.app.jobs import work
from kestrav.app.jobs.job_bar import JobBar
from kestrav.app.jobs.jobs import Job
from kestrav.app.session import Session
from kestrav.core.document.records import Finish
from kestrav.core.editing.finishing import with_finish
from kestrav.core.finishes.shelf import SHELF


@pytest.fixture
def desk(dressed, qtbot, passing, tmp_path):
    """A session on a small project, and what was said and complained of."""
    session, over, said = Session(), QWidget(), []
    qtbot.addWidget(over)
    session.open(passing.project, passing.meshes, tmp_path / "passing.kestrav")
    jobs = JobBar()
    qtbot.addWidget(jobs)
    jobs.began.connect(jobs.follow)

    def keep(text, *_):
        said.append(text)

    prompts = Prompts(over, jobs, keep, keep, keep)
    return SimpleNamespace(session=session, prompts=prompts, said=said, jobs=jobs)


def test_a_finish_is_given_and_taken_back(desk):
    finishing = FinishActions(desk.session, desk.prompts)
    part = next(p for p in desk.session.project.parts if p.geometry is not None)
    desk.session.select(None)
    finishing.give(SHELF[0][1][0])
    assert desk.said == ["Select the parts that are to have the finish"]
    desk.session.select(part.id)
    finishing.give(SHELF[0][1][0])
    given = next(p for p in desk.session.project.parts if p.id == part.id)
    assert given.finish == desk.session.project.finishes[0].id
    desk.session.undo.undo()
    assert not desk.session.project.finishes


def test_colourways_go_round(desk):
    finishing = FinishActions(desk.session, desk.prompts)
    finishing.next_colourway()
    assert "no colourway yet" in desk.said[-1]
    finishing.new_colourway()
    (way,) = desk.session.project.colourways
    assert desk.session.project.colourway == way.id
    finishing.next_colourway()
    assert desk.session.project.colourway == ""


def test_menus_come_without_a_window(desk):
    made = []

    def action(text, slot, *keys, tip=""):
        made.append(text)
        return QMenu(desk.prompts.over).addAction(text)

    assert FinishActions(desk.session, desk.prompts).menu(action).title() == "Finish"
    assert ExtractionActions(desk.session, desk.prompts).actions(action) and "Extraction path …" in made


def test_what_needs_a_check_says_so(desk):
    card = Card(desk.session)
    checking = SimpleNamespace(result=None, current=False, current_result=None)
    clearing = ClearanceActions(desk.session, desk.prompts, card, checking)
    clearing.show_table()
    assert "still under way" in desk.said[-1] and clearing.table is None


def test_contacts_are_listed_by_a_job_and_shown_in_the_card(desk, qtbot):
    card, gone = Card(desk.session), []
    checking = SimpleNamespace(result=None, current=False, go_to=gone.append)
    contacts = ContactActions(desk.session, desk.prompts, card, checking)
    contacts.ask()
    qtbot.waitUntil(lambda: desk.jobs.job is None, timeout=60_000)
    assert contacts.current and card.shows_checks
    desk.session.edit("Rename", lambda p: p.__class__(name="Other"))
    assert not contacts.current


def test_only_one_job_runs_at_a_time(desk, qtbot):
    ended = []
    args = (desk.session.project, desk.session.meshes)
    desk.prompts.start(Job("First", work.list_contacts, *args, tidies=False), ended.append)
    desk.prompts.start(Job("Second", work.list_contacts, *args, tidies=False), ended.append)
    assert "“First” is still under way" in desk.said[-1]
    desk.prompts.start_or_wait("Third", lambda: Job("Third", work.list_contacts, *args, tidies=False), ended.append)
    assert "it waits for “First”" in desk.said[-1]
    qtbot.waitUntil(lambda: len(ended) == 2, timeout=60_000)


def test_a_share_that_is_a_whole_number_is_still_a_share(desk):
    part = next(p for p in desk.session.project.parts if p.geometry is not None)
    finish = Finish("finish-1", "Mirror", roughness=1)
    desk.session.edit("Finish", lambda project: with_finish(project, [part.id], finish))
    desk.session.select(desk.session.project.finishes[0].id)
    row = Card(desk.session).whole_sheet().field("Roughness")
    assert row.value == 100.0
    row.change(35.0)
    assert desk.session.project.finishes[0].roughness == pytest.approx(0.35)
