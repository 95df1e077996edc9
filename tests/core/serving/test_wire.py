"""The protocol: every message and every record survives the wire and the book, and rubbish is told from messages."""

import enum
import socket
import types
from typing import Annotated, Any, Union, get_args, get_origin, get_type_hints

import msgspec
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from niente.core.model.plan import Plan
from niente.core.model.records import FrameTaken, PlanStarted, ProjectSaved, Record, RigCardChanged, SamplesTaken
from niente.core.serving.channel import ENCODER, LENGTH, MAX_BYTES, ChannelError, MessageChannel, decoder_for
from niente.core.serving.messages import PROTOCOL, Hello, Message, Request
from niente.core.storage.recorder import body_of

FLOATS = st.floats(allow_nan=True, allow_infinity=True)
EVERYTHING = (Record, Message, Request, Hello)


PLAIN: dict[Any, st.SearchStrategy[Any]] = {
    float: FLOATS,
    int: st.integers(-(2**40), 2**40),
    str: st.text(max_size=12),
    bool: st.booleans(),
    type(None): st.none(),
    Any: st.dictionaries(st.text(max_size=4), st.integers(0, 9), max_size=2),
}


def values_of(hint: Any) -> st.SearchStrategy[Any]:
    """Values of a type as the messages' annotations name it."""
    if hint in PLAIN:
        return PLAIN[hint]
    origin, inner = get_origin(hint), get_args(hint)
    if origin is np.ndarray:
        return st.lists(FLOATS, max_size=4).map(np.array)
    if origin is not None:
        return _composed(origin, inner)
    if issubclass(hint, enum.Enum):
        return st.sampled_from(list(hint))
    assert issubclass(hint, msgspec.Struct), hint
    return st.deferred(lambda: built(hint))


def _composed(origin: Any, inner: tuple[Any, ...]) -> st.SearchStrategy[Any]:
    if origin is Annotated:
        return _bounded(*inner)
    if origin in (Union, types.UnionType):
        return st.one_of([values_of(one) for one in inner])
    if origin is list or (origin is tuple and inner[-1] is Ellipsis):
        return st.lists(values_of(inner[0]), max_size=2).map(origin)
    if origin is tuple:
        return st.tuples(*[values_of(one) for one in inner])
    assert origin is dict, origin
    return st.dictionaries(values_of(inner[0]), values_of(inner[1]), max_size=2)


def _bounded(kind: type, meta: msgspec.Meta) -> st.SearchStrategy[Any]:
    """Figures within the bounds that an annotation sets."""
    assert kind in (float, int)
    lowest, highest = meta.ge if meta.ge is not None else meta.gt, meta.le if meta.le is not None else meta.lt
    if kind is int:
        return st.integers(int(lowest or 0), int(highest or 0))
    return st.floats(lowest, highest, exclude_min=meta.gt is not None, exclude_max=meta.lt is not None)


def built(kind: type[msgspec.Struct]) -> st.SearchStrategy[Any]:
    fields = {
        name: values_of(hint)
        for name, hint in get_type_hints(kind, include_extras=True).items()
        if name in kind.__struct_fields__
    }
    return st.builds(kind, **fields)


def members(union: Any) -> list[type[msgspec.Struct]]:
    return list(get_args(union)) or [union]


@pytest.mark.parametrize("union", EVERYTHING, ids=["record", "message", "request", "hello"])
@settings(max_examples=30, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_everything_that_is_said_survives_the_wire(union: Any, data: st.DataObject) -> None:
    said = data.draw(st.sampled_from(members(union)).flatmap(built))
    heard = decoder_for(union).decode(ENCODER.encode(said))
    assert type(heard) is type(said)
    assert repr(heard) == repr(said)


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_every_record_survives_the_book(data: st.DataObject) -> None:
    """But for samples, which have a table of their own, and what the book keeps as a document."""
    apart = {FrameTaken, SamplesTaken, PlanStarted, ProjectSaved, RigCardChanged}
    told = data.draw(st.sampled_from([kind for kind in members(Record) if kind not in apart]).flatmap(built))
    read = msgspec.convert(msgspec.json.decode(body_of(told)), type=Record, strict=False)
    assert repr(read) == repr(told)


def test_a_change_of_the_protocol_has_another_number() -> None:
    """Whoever changes a message or a record raises the protocol's number, and puts both down here."""
    import hashlib

    seen: dict[str, str] = {}
    for union in EVERYTHING:
        for kind in members(union):
            _note_shape(kind, seen)
    shapes = "\n".join(f"{name}: {seen[name]}" for name in sorted(seen))
    assert (PROTOCOL, hashlib.sha256(shapes.encode()).hexdigest()[:12]) == (12, "ae8bc7102f84")


def _note_shape(hint: Any, seen: dict[str, str]) -> None:
    """Note the names and types of the fields of a structure, and of all that it holds."""
    for inner in get_args(hint):
        _note_shape(inner, seen)
    if isinstance(hint, type) and issubclass(hint, enum.Enum):
        seen[hint.__name__] = ", ".join(str(one.value) for one in hint)
    if isinstance(hint, type) and issubclass(hint, msgspec.Struct) and hint.__name__ not in seen:
        fields = {name: inner for name, inner in get_type_hints(hint).items() if name in hint.__struct_fields__}
        seen[hint.__name__] = ", ".join(f"{name}: {inner}" for name, inner in fields.items())
        for inner in fields.values():
            _note_shape(inner, seen)


def ends() -> tuple[MessageChannel[Any], socket.socket]:
    ours, theirs = socket.socketpair()
    return MessageChannel(ours, decoder_for(Message)), theirs


@pytest.mark.parametrize(
    "sent",
    [
        b"GET / HTTP/1.1\r\n\r\n" * 4,
        LENGTH.pack(5) + b"\xc1\xc1\xc1\xc1\xc1",
        LENGTH.pack(MAX_BYTES + 1),
        LENGTH.pack(1) + b"\x01",
        LENGTH.pack(9) + b"\x81\xa4type\xa3ABC"[:9],
    ],
)
def test_rubbish_is_no_message(sent: bytes) -> None:
    channel, other = ends()
    other.sendall(sent)
    other.close()
    with pytest.raises(ChannelError):
        channel.receive()
    channel.close()


@pytest.mark.parametrize("sent", [b"", b"\x01", LENGTH.pack(1000) + b"half of it"])
def test_an_end_in_the_middle_is_an_end(sent: bytes) -> None:
    channel, other = ends()
    other.sendall(sent)
    other.close()
    assert channel.receive() is None
    channel.close()


def test_a_plan_of_thousands_of_runs_goes_over_whole() -> None:
    from tests.conftest import larkspur_rig, short_plan

    card = larkspur_rig().describe()
    plan: Plan = short_plan(card, *[card.stock.replaced("sustained_power_w", 80.0 + index / 100) for index in range(5000)])
    channel, other = ends()
    data = ENCODER.encode(PlanStarted(plan, 1, 0))
    assert decoder_for(Record).decode(data) == PlanStarted(plan, 1, 0)
    assert len(data) < MAX_BYTES
    channel.close()
    other.close()
