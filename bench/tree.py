"""The contents at ten thousand rows, against a tree of Qt's own standard items with the same rows."""

from kestrav.core.document.records import Part, Placement, Project


def _project():
    racks = [Part(f"part-{i}", f"Rack {i}") for i in range(1, 101)]
    pins = [
        Part(f"part-{1000 + i}", f"Pin {i}", f"part-{1 + i % 100}", Placement((float(i), 0.0, 0.0)))
        for i in range(9900)
    ]
    return Project(parts=(*racks, *pins))


def ten_thousand_rows(in_turns):
    from PySide6.QtGui import QStandardItem, QStandardItemModel
    from PySide6.QtWidgets import QApplication, QTreeView

    from kestrav.app.contents.contents_tree import ContentsTree
    from kestrav.app.session import Session
    from kestrav.app.shell.start import make_application
    from kestrav.core.parts.placing import shift, transform

    application = make_application()
    assert isinstance(application, QApplication)
    project = _project()
    session = Session()
    contents = ContentsTree(session)
    contents.resize(300, 600)
    contents.show()
    view = QTreeView()
    view.resize(300, 600)
    view.show()

    def ours():
        session.open(project, {}, None)
        contents.search.setText("Pin 98")
        contents.search.clear()
        session.select("part-1500")
        application.processEvents()

    def bare():
        model = QStandardItemModel()
        rows = {}
        for part in project.parts:
            row = rows[part.id] = QStandardItem(part.name)
            (model.invisibleRootItem() if part.parent is None else rows[part.parent]).appendRow(row)
        view.setModel(model)
        application.processEvents()

    mine, theirs = in_turns(ours, bare, 5)
    # one more edit of a part among ten thousand
    edit, _ = in_turns(
        lambda: session.edit("Move", lambda p: transform(p, ["part-1500"], shift((0.0, 0.0, 1.0)))), lambda: None, 5
    )
    contents.close()
    view.close()
    return (
        f"10 000 rows opened, searched twice and one chosen: {1000 * mine:.0f} ms against {1000 * theirs:.0f} ms that Qt's "
        f"standard items take to be filled once: {mine / theirs:.1f} times (at most 8); an edit of one part "
        f"{1000 * edit:.0f} ms (at most 150)",
        mine / theirs <= 8 and edit < 0.15,
    )
