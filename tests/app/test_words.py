"""The words of the cards: no two fields of one card bear the same name."""

from collections import Counter

KINDS = (
    "parts",
    "paths",
    "runs",
    "cameras",
    "shots",
    "pose_tracks",
    "attachments",
    "wheels",
    "castors",
    "rotations",
    "rods",
    "lights",
)


def test_no_two_fields_of_a_card_bear_one_name(make_hand, demo):
    # in one window, as the demo takes a while to open
    hand = make_hand(demo)
    # one of each kind, and what is told by other numbers
    for kind in KINDS:
        for item in getattr(hand.session.project, kind)[:6]:
            hand.session.select(item.id)
            twice = [name for name, count in Counter(hand.window.card.fields()).items() if count > 1]
            assert not twice, (kind, item.name, twice)
