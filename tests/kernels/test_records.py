"""Records are what frozen data classes are, only made quicker."""

import copy
import pickle
from dataclasses import FrozenInstanceError, asdict, dataclass, field, fields, replace

import pytest

from spectrane.kernels.records import record


@record(frozen=True)
class Quick:
    name: str
    numbers: tuple[int, ...] = (1, 2)
    hidden: int = field(default=3, repr=False, compare=False)


@record(frozen=True)
class Longer(Quick):
    more: float = 0.5

    def __repr__(self) -> str:
        return "longer"


@record(frozen=True, eq=False)
class ByIdentity:
    a: int = 1


@dataclass(frozen=True)
class Plain:
    name: str
    numbers: tuple[int, ...] = (1, 2)
    hidden: int = field(default=3, repr=False, compare=False)


def test_a_record_is_a_data_class_in_all_that_can_be_seen():
    one, same = Quick("a", hidden=4), Quick("a")
    assert one == same
    assert hash(one) == hash(same)
    assert one != Longer("a")
    assert one != Plain("a")
    assert repr(one) == repr(Plain("a")).replace("Plain", "Quick")
    assert repr(Longer("b")) == "longer"
    assert asdict(replace(one, name="b")) == asdict(Plain("b", hidden=4))
    assert [f.name for f in fields(Longer)] == ["name", "numbers", "hidden", "more"]
    for again in (copy.copy(one), copy.deepcopy(one), pickle.loads(pickle.dumps(one))):
        assert again == one
        assert again.hidden == 4
    assert ByIdentity() != ByIdentity()
    assert len({ByIdentity(), ByIdentity()}) == 2


@pytest.mark.parametrize("change", [
    lambda it: setattr(it, "name", "b"), lambda it: setattr(it, "nam", "b"),
    lambda it: setattr(it, "more", 1.0), lambda it: delattr(it, "name"),
])  # fmt: skip
def test_what_a_record_says_it_says_for_good(change):
    for thing in (Quick("a"), Longer("a"), ByIdentity()):
        before = vars(thing).copy()
        with pytest.raises(FrozenInstanceError):
            change(thing)
        assert vars(thing) == before


def test_only_frozen_classes_are_records():
    with pytest.raises(TypeError, match="dataclasses"):
        record(frozen=False)(type("Loose", (), {}))
