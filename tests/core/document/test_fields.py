"""What is said of fields, beside them: labels, units, bounds."""

import json
import math

import msgspec
import pytest

from kestrav.core.document import records
from kestrav.core.document.fields import check_fields, infos, options
from kestrav.core.document.records import Castor, Finish, LightSetup, PointAim, Project, Rod, Shot, Trigger, Wheel
from kestrav.core.errors import BadInput
from kestrav.core.files.project_file import schema


def _described():
    for name in dir(records):
        kind = getattr(records, name)
        if isinstance(kind, type) and issubclass(kind, records.Record):
            yield from ((kind, field, info) for field, info in infos(kind).items())


def test_each_description_has_a_sentence_and_bounds_that_leave_room():
    every = list(_described())
    assert len(every) > 150
    for kind, field, info in every:
        assert info.tip and not info.tip.endswith("."), f"{kind.__name__}.{field}"
        assert info.places >= 0 and info.step > 0 and info.factor > 0
        low = -math.inf if info.low is None else info.low
        assert low < (math.inf if info.high is None else info.high)


def test_defaults_lie_within_the_bounds():
    for kind in {kind for kind, _, _ in _described()}:
        values = {f.name: f.default for f in msgspec.structs.fields(kind) if f.default is not msgspec.NODEFAULT}
        needed = {f.name: 1.0 for f in msgspec.structs.fields(kind) if f.default is msgspec.NODEFAULT}
        check_fields(kind(**(needed | values)), "it")


@pytest.mark.parametrize(
    ("record", "message"),
    [
        (Wheel("w", "W", "p", radius=0.0), "the radius of W is 0 mm; it must be above 0 mm and at most 1,000,000 mm"),
        (Wheel("w", "W", "p", slip=-1.0), "the slip of W is -100 %; it must be above -100 %"),
        (Castor("c", "C", "p", trail=-2.0), "the trail of W is -2 mm; it must be 0 mm or more"),
        (Shot("s", "S", "c", width=8), "the width of W is 8 px; it can be 16 px to 16384 px"),
        (Trigger("r", place=1.5), "the station of W is 150 %; it can be 0 % to 100 %"),
        (Finish("f", "F", roughness=2.0), "the roughness of W is 200 %"),
        (LightSetup(white=math.nan), "the white balance of W is nan K"),
    ],
)
def test_what_lies_beyond_a_bound_is_refused_in_the_unit_that_is_shown(record, message):
    with pytest.raises(BadInput, match=message):
        check_fields(record, "W")


def test_one_of_several_is_called_by_its_words():
    assert options(Rod, "keeps")[0] == ("level", "stays parallel")
    assert dict(options(Trigger, "at"))["station"] == "passes a station"
    assert options(Wheel, "radius") == ()


def test_the_published_schema_has_labels_units_and_bounds():
    found = json.loads(json.dumps(schema()))
    radius = found["$defs"]["Wheel"]["properties"]["radius"]
    assert radius["title"] == "Radius" and radius["description"].endswith("in mm")
    assert radius["exclusiveMinimum"] == 0 and radius["maximum"] == 1e6
    assert infos(PointAim)["point"].unit == "mm" and "name" not in infos(Project)


def test_what_a_field_holds_follows_from_its_type():
    kinds = {
        (Wheel, "radius"): "number",
        (Wheel, "slip"): "number",
        (Shot, "samples"): "whole number",
        (Shot, "loops"): "switch",
        (PointAim, "point"): "vector",
        (Finish, "colour"): "colour",
        (Trigger, "at"): "text",
        (records.Run, "duration"): "number",
    }
    assert {key: infos(key[0])[key[1]].kind for key in kinds} == kinds
