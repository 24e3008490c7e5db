"""The words of the cards: no two fields of one card bear the same name."""

from collections import Counter

from PySide6.QtWidgets import QWidget

from kestrav.app.cards import camera, part, path, run, shooting


def names_of(card):
    card.rebuild()
    found = [w.objectName() for w in card.form.findChildren(QWidget)]
    return Counter(name for name in found if name.startswith("field-"))


def test_no_two_fields_of_a_card_bear_one_name(make_hand, demo):
    hand = make_hand(demo)
    project, card = hand.session.project, hand.window.card
    tabs = {
        "parts": (card.show_part_tab, part.TABS),
        "paths": (card.show_path_tab, path.TABS),
        "runs": (card.show_run_tab, run.TABS),
        "cameras": (card.show_camera_tab, camera.TABS),
        "shots": (card.show_shot_tab, shooting.TABS),
    }
    others = ("poses", "carries", "rolls", "swivels", "spins", "rods", "lights")
    for kind in (*tabs, *others):
        show, pages = tabs.get(kind, (lambda _tab: None, ("",)))
        # one of each kind, and what is told by other numbers
        for item in getattr(project, kind)[:6]:
            hand.session.select(item.id)
            for page in pages:
                show(page)
                twice = [name for name, count in names_of(card).items() if count > 1]
                assert not twice, (kind, item.name, page, twice)
