"""Classes of values, as ``dataclasses`` of the standard library has them, made in a twentieth of its time.

A command makes hundreds of such classes before it does anything, and uses few of them. The standard library compiles
five functions for each; here none is compiled before the first object is made. For type checkers, and for whoever calls
``dataclasses.replace`` and the like on an object, they are the same. What this program does not use is not there: no
order, no ``InitVar``, no fields that are not arguments.
"""

from __future__ import annotations

__all__ = ["asdict", "astuple", "dataclass", "field", "fields", "is_dataclass", "replace"]
TYPE_CHECKING = False
if TYPE_CHECKING:
    from dataclasses import asdict, astuple, dataclass, field, fields, is_dataclass, replace
else:
    from operator import attrgetter

    class _Factory:
        """In a signature: a default that is made for each object."""

        def __repr__(self):
            return "<factory>"

    _MISSING, _FACTORY = object(), _Factory()
    _ATOMS = frozenset((str, int, bool, float, bytes, type(None), type))
    _set = object.__setattr__

    class Field:
        """One field. ``default`` and ``default_factory`` are ``_MISSING`` if it has none."""

        __slots__ = ("compare", "default", "default_factory", "kw_only", "name", "repr", "type")

        def __init__(self, default, default_factory, shown, compare):
            self.default, self.default_factory, self.repr, self.compare = default, default_factory, shown, compare

        @property
        def is_optional(self):
            """Whether its argument may be left out."""
            return self.default is not _MISSING or self.default_factory is not _MISSING

    def field(*, default=_MISSING, default_factory=_MISSING, repr=True, compare=True):  # noqa: A002
        """A field with more than a default."""
        return Field(default, default_factory, repr, compare)

    class _Init:
        """Compiles ``__init__`` when it is first looked up."""

        __slots__ = ("frozen", "owner")

        def __init__(self, frozen):
            self.frozen = frozen

        def __get__(self, instance, owner=None):
            made = _compiled(self.owner, self.frozen)
            self.owner.__init__ = made
            return made if instance is None else made.__get__(instance, owner)

    class _StandardFields:
        """What functions of the standard library ask for, made when they do."""

        __slots__ = ("owner",)

        def __get__(self, instance, owner=None):
            import dataclasses

            rows = []
            for entry in self.owner.__record_fields__:
                given = {"repr": entry.repr, "compare": entry.compare, "kw_only": entry.kw_only}
                given |= {"default": entry.default} if entry.default is not _MISSING else {}
                given |= {"default_factory": entry.default_factory} if entry.default_factory is not _MISSING else {}
                rows.append((entry.name, entry.type, dataclasses.field(**given)))
            made = dataclasses.make_dataclass(self.owner.__name__, rows).__dataclass_fields__
            self.owner.__dataclass_fields__ = made
            return made

    def dataclass(cls=None, /, *, frozen=False, slots=False, repr=True, kw_only=False):  # noqa: A002
        """As the standard library's."""
        if cls is None:
            return lambda cls: _record(cls, frozen, slots, repr, kw_only)
        return _record(cls, frozen, slots, repr, kw_only)

    def _record(cls, frozen, slots, shown, kw_only):
        rows, names = _fields_of(cls, kw_only)
        methods = {
            "__record_fields__": rows,
            "__record_values__": _getter(entry.name for entry in rows if entry.compare),
            "__match_args__": tuple(entry.name for entry in rows if not entry.kw_only),
            "__init__": _Init(frozen),
            "__dataclass_fields__": _StandardFields(),
            "__eq__": _eq,
        }
        if shown:
            methods["__repr__"] = _repr
        own = cls.__dict__
        if frozen:
            methods |= {"__hash__": _hash, "__setattr__": _refuse, "__delattr__": _refuse}
        elif "__eq__" not in own:
            methods["__hash__"] = None
        for name in ("__init__", "__repr__", "__eq__", "__hash__"):
            # What the class says itself counts; Python sets __hash__ to None beside an own __eq__.
            if own.get(name) is not None:
                methods.pop(name, None)
        if slots:
            cls = _with_slots(cls, names, methods, frozen)
        else:
            for name, value in methods.items():
                setattr(cls, name, value)
        for late in (methods.get("__init__"), methods["__dataclass_fields__"]):
            if isinstance(late, (_Init, _StandardFields)):
                late.owner = cls
        return cls

    def _fields_of(cls, kw_only):
        """All fields, inherited ones first, and the names of its own."""
        known = {}
        for base in cls.__mro__[-1:0:-1]:
            for entry in base.__dict__.get("__record_fields__", ()):
                known[entry.name] = entry
        own = cls.__dict__
        names = [name for name, kind in own.get("__annotations__", {}).items() if not str(kind).startswith("ClassVar")]
        for name in names:
            known[name] = _field_of(cls, name, own.get(name, _MISSING), kw_only)
        return tuple(known.values()), names

    def _field_of(cls, name, default, kw_only):
        if isinstance(default, Field):
            entry = default
            if entry.default is _MISSING:
                delattr(cls, name)
            else:
                setattr(cls, name, entry.default)
        else:
            if type(default).__name__ == "member_descriptor":
                default = _MISSING
            entry = Field(default, _MISSING, True, True)
        if entry.default is not _MISSING and type(entry.default).__hash__ is None:
            raise ValueError(f"mutable default for field {name}: use default_factory")
        entry.name, entry.type, entry.kw_only = name, cls.__annotations__[name], kw_only
        return entry

    def _with_slots(cls, names, methods, frozen):
        if "__slots__" in cls.__dict__:
            raise TypeError(f"{cls.__name__} already specifies __slots__")
        content = {name: value for name, value in cls.__dict__.items() if name not in ("__dict__", "__weakref__")}
        inherited = {slot for base in cls.__mro__[1:-1] for slot in _slots_of(base)}
        for name in names:
            content.pop(name, None)
        content |= methods
        if frozen:
            content.setdefault("__getstate__", _getstate)
            content.setdefault("__setstate__", _setstate)
        content["__slots__"] = tuple(name for name in names if name not in inherited)
        qualname = cls.__qualname__
        made = type(cls)(cls.__name__, cls.__bases__, content)
        made.__qualname__ = qualname
        return made

    def _slots_of(base):
        slots = base.__dict__.get("__slots__", ())
        return (slots,) if isinstance(slots, str) else slots

    def _getter(names):
        names = tuple(names)
        return attrgetter(*names) if names else _nothing

    def _nothing(_record):
        return ()

    def _compiled(cls, frozen):
        given, known = [], {"_set": _set, "_FACTORY": _FACTORY}
        body, rows = [], cls.__record_fields__
        late = [entry for entry in rows if entry.kw_only]
        optional = False
        for entry in [*(entry for entry in rows if not entry.kw_only), *late]:
            name = value = entry.name
            if late and entry is late[0]:
                given.append("*")
            if entry.default_factory is not _MISSING:
                known[f"_make_{name}"] = entry.default_factory
                given.append(f"{name}=_FACTORY")
                value = f"_make_{name}() if {name} is _FACTORY else {name}"
            elif entry.default is not _MISSING:
                known[f"_default_{name}"] = entry.default
                given.append(f"{name}=_default_{name}")
            elif optional and not entry.kw_only:
                raise TypeError(f"non-default argument {name!r} follows default argument")
            else:
                given.append(name)
            optional = optional or entry.is_optional
            body.append(f" _set(self, {name!r}, {value})" if frozen else f" self.{name} = {value}")
        if hasattr(cls, "__post_init__"):
            body.append(" self.__post_init__()")
        exec(f"def __init__(self, {', '.join(given)}):\n" + "\n".join(body or [" pass"]), known)  # noqa: S102
        made = known["__init__"]
        made.__qualname__, made.__module__ = f"{cls.__qualname__}.__init__", cls.__module__
        made.__annotations__ = {entry.name: entry.type for entry in rows} | {"return": None}
        return made

    def _eq(self, other):
        if other.__class__ is not self.__class__:
            return NotImplemented
        return self.__class__.__record_values__(self) == self.__class__.__record_values__(other)

    def _hash(self):
        return hash(self.__class__.__record_values__(self))

    def _repr(self):
        words = (f"{entry.name}={getattr(self, entry.name)!r}" for entry in self.__record_fields__ if entry.repr)
        return f"{self.__class__.__qualname__}({', '.join(words)})"

    def _refuse(self, name, *_value):
        from dataclasses import FrozenInstanceError

        raise FrozenInstanceError(f"cannot change field {name!r}")

    def _getstate(self):
        return [getattr(self, entry.name) for entry in self.__record_fields__]

    def _setstate(self, state):
        for entry, value in zip(self.__record_fields__, state, strict=True):
            _set(self, entry.name, value)

    def fields(record):
        """Its fields, or those of a class."""
        return record.__record_fields__

    def is_dataclass(thing):
        """Whether it is such a class, or an object of one."""
        return hasattr(thing if isinstance(thing, type) else type(thing), "__record_fields__")

    def replace(record, /, **changes):
        """A new object with other values."""
        for entry in record.__record_fields__:
            if entry.name not in changes:
                changes[entry.name] = getattr(record, entry.name)
        return record.__class__(**changes)

    def asdict(record, *, dict_factory=dict):
        """As plain values, all that is within it included."""
        return _plain(record, dict_factory)

    def astuple(record):
        """As tuples, all that is within it included."""
        return tuple(_tuple(getattr(record, entry.name)) for entry in record.__record_fields__)

    def _plain(value, dict_factory):
        kind = type(value)
        if kind in _ATOMS:
            return value
        if hasattr(kind, "__record_fields__"):
            rows = [(entry.name, _plain(getattr(value, entry.name), dict_factory)) for entry in fields(value)]
            return dict_factory(rows)
        return _copied(value, lambda inner: _plain(inner, dict_factory))

    def _tuple(value):
        if hasattr(type(value), "__record_fields__"):
            return astuple(value)
        return value if type(value) in _ATOMS else _copied(value, _tuple)

    def _copied(value, copy_inner):
        kind = type(value)
        if isinstance(value, tuple) and hasattr(value, "_fields"):
            return kind(*[copy_inner(inner) for inner in value])
        if isinstance(value, list | tuple):
            return kind(copy_inner(inner) for inner in value)
        if isinstance(value, dict):
            return kind((copy_inner(key), copy_inner(inner)) for key, inner in value.items())
        from copy import deepcopy

        return deepcopy(value)
