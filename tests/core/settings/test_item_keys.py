import pytest

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.settings.item_keys import find_item, item_keys
from inkwell_cast.core.settings.mends import Mend
from inkwell_cast.core.settings.regions import Pocket, Stroke


def test_a_key_stays_with_its_item_whatever_happens_around_it():
    items = [Pocket(name="a"), Pocket(name="b"), Pocket(name="a"), Pocket(name="c")]
    keys = item_keys(items)
    assert len(set(keys)) == 4
    assert item_keys(items[1:])[0] == keys[1]
    assert find_item([items[0].model_copy(update={"radius": 9.0}), items[3]], keys[3], "The pocket") == 1
    with pytest.raises(InputProblem, match="no longer there"):
        find_item(items[:3], keys[3], "The pocket")


def test_what_has_no_name_goes_by_what_it_says_and_not_by_whether_it_is_on():
    mends = [Mend(name="seam", words=words, on=on) for words, on in (("fill", True), ("fill", False), ("turn", True))]
    (one,), (off,), (other,) = (item_keys([mend]) for mend in mends)
    assert one == off != other
    strokes = [Stroke(kind="out", points=[(x, 0, 0)], radius=1, amount=1) for x in (0, 1, 0)]
    assert len(set(item_keys(strokes))) == 3
