"""Records beside the standard library's dataclasses: the same source under both decorators behaves in the same way."""

from __future__ import annotations

import copy
import dataclasses
import inspect
import pickle
from typing import ClassVar  # noqa: F401 (the standard library looks for it here)

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow import records

SOURCE = """
from __future__ import annotations
from typing import ClassVar, Generic, TypeVar
T = TypeVar("T")

@dataclass(frozen=True, slots=True)
class Point:
    x: int
    y: int = 2
    note: str = field(default="", repr=False, compare=False)
    kind: ClassVar[str] = "point"

    @property
    def total(self) -> int:
        return self.x + self.y

@dataclass(slots=True)
class Bag(Generic[T]):
    items: list[T] = field(default_factory=list)
    point: Point = Point(1)

@dataclass(frozen=True)
class Base:
    name: str
    shown: ClassVar[str] = "x"

    def content(self):
        return self.name

@dataclass(frozen=True)
class Derived(Base):
    rows: tuple = ()
    more: dict = field(default_factory=dict)

    def content(self):
        return super().content() + "!"

@dataclass(frozen=True, kw_only=True)
class Named:
    a: int = 1
    b: str

@dataclass(frozen=True, slots=True, repr=False)
class Secret:
    value: str

    def __repr__(self):
        return "Secret(...)"

@dataclass
class Loose:
    a: int
    made: int = 0

    def __post_init__(self):
        self.made = self.a * 2

@dataclass(frozen=True, slots=True)
class Own:
    a: int

    def __eq__(self, other):
        return isinstance(other, Own)

    def __hash__(self):
        return 7

@dataclass(frozen=True, slots=True)
class Nothing:
    pass
"""


def made(module):
    names = {"dataclass": module.dataclass, "field": module.field, "__name__": __name__}
    exec(compile(SOURCE, "records", "exec", dont_inherit=True), names)
    return type(
        "Made", (), {key: staticmethod(value) if inspect.isfunction(value) else value for key, value in names.items()}
    )


OURS, THEIRS = made(records), made(dataclasses)
CALLS = [
    ("Point", (1,), {}), ("Point", (1, 5, "n"), {}), ("Point", (), {"x": 3, "note": "z"}), ("Bag", (), {}), ("Bag", ([1],), {}),
    ("Derived", ("n",), {}), ("Derived", ("n", (1,), {"k": [2]}), {}), ("Named", (), {"b": "x"}), ("Secret", ("s",), {}),
    ("Loose", (4,), {}), ("Own", (1,), {}), ("Nothing", (), {}),
]  # fmt: skip
WRONG = [
    ("Point", (), {}), ("Point", (1, 2, "n", 4), {}), ("Point", (1,), {"z": 1}), ("Named", (1,), {"b": "x"}), ("Named", (), {}),
    ("Nothing", (1,), {}),
]  # fmt: skip


@pytest.mark.parametrize(("name", "args", "words"), CALLS)
def test_the_same_as_the_standard_library(name, args, words):
    """Text, equality, hash, fields, signature, plain values, copies, and pickled state."""
    ours, theirs = (getattr(module, name)(*args, **copy.deepcopy(words)) for module in (OURS, THEIRS))
    assert repr(ours) == repr(theirs)
    assert ours == getattr(OURS, name)(*args, **copy.deepcopy(words)) and ours != theirs and ours != 1
    assert str(inspect.signature(type(ours))) == str(inspect.signature(type(theirs)))
    assert type(ours).__match_args__ == type(theirs).__match_args__
    plain = dataclasses.asdict(theirs)
    plain |= {"point": {"x": 1, "y": 2, "note": ""}} if name == "Bag" else {}
    assert records.asdict(ours) == dataclasses.asdict(ours) == plain
    assert records.astuple(ours) == dataclasses.astuple(ours)
    assert [entry.name for entry in records.fields(ours)] == [entry.name for entry in dataclasses.fields(theirs)]
    assert records.is_dataclass(ours) and records.is_dataclass(type(ours)) and dataclasses.is_dataclass(ours)
    assert hasattr(ours, "__dict__") == hasattr(theirs, "__dict__")
    if type(theirs).__hash__ is None or (name == "Derived"):
        with pytest.raises(TypeError, match="unhashable"):
            hash(ours)
    else:
        assert hash(ours) == hash(copy.copy(ours))
    if name != "Loose":
        assert records.replace(ours) == dataclasses.replace(ours) == ours == copy.deepcopy(ours)
    state = ours.__reduce_ex__(4)
    assert (
        state[0].__name__ == theirs.__reduce_ex__(4)[0].__name__ and state[2] == theirs.__reduce_ex__(4)[2]
    ) or name == "Bag"


@pytest.mark.parametrize(("name", "args", "words"), WRONG)
def test_wrong_arguments(name, args, words):
    """The same words for what is missing or unknown."""
    said = []
    for module in (OURS, THEIRS):
        with pytest.raises(TypeError) as raised:
            getattr(module, name)(*args, **words)
        said.append(str(raised.value))
    assert said[0] == said[1]


def test_frozen():
    for module in (OURS, THEIRS):
        for record in (module.Point(1), module.Derived("n")):
            with pytest.raises(dataclasses.FrozenInstanceError):
                record.x = 2
            with pytest.raises(dataclasses.FrozenInstanceError):
                del record.x
    assert OURS.Derived("n").content() == "n!" and OURS.Point.kind == "point" and OURS.Point(1).total == 3


def test_a_default_that_can_change():
    for module in (records, dataclasses):
        with pytest.raises(ValueError, match="mutable default"):

            @module.dataclass
            class Wrong:
                a: list = []

    with pytest.raises(TypeError, match="non-default argument 'b' follows default argument"):

        @records.dataclass
        class Late:
            a: int = 1
            b: int

        Late(1, 2)


@records.dataclass(frozen=True, slots=True)
class Kept:
    """Pickled as a whole."""

    a: int
    b: tuple[int, ...] = ()


@given(st.integers(), st.lists(st.integers()).map(tuple), st.integers())
def test_values(a, b, other):
    """Equal values are equal records, and keys; a record comes back from its octets."""
    record = Kept(a, b)
    assert (record == Kept(other, b)) is (a == other) and {record: 1}[Kept(a, b)] == 1
    assert pickle.loads(pickle.dumps(record)) == record
    assert records.replace(record, a=other) == Kept(other, b)
