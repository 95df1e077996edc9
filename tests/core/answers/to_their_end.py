"""Which questions are run to their end on which machines, and what kind of picture each answer has."""

from niente.core.model.answer_document import Bars, Curves, Depths, Differences

JUDGED = [
    ("larkspur", "baseline", Bars),
    ("cormorant", "baseline", Bars),
    ("sandpiper", "capacity-ladder", Curves),
    ("cormorant", "capacity-ladder", Curves),
    ("larkspur", "cap-sweep", Curves),
    ("sandpiper", "cap-sweep", Curves),
    ("larkspur", "variants", Differences),
    ("cormorant", "variants", Differences),
    ("wren", "real-time", Curves),
    ("cormorant", "real-time", Curves),
]
OTHERS = [
    ("larkspur", "fan-sweep", Curves),
    ("wren", "fan-sweep", Curves),
    ("larkspur", "burst", Curves),
    ("cormorant", "burst", Curves),
    ("larkspur", "soak", Curves),
    ("sandpiper", "soak", Curves),
    ("larkspur", "undervolt-ladder", Depths),
    ("sandpiper", "undervolt-ladder", Depths),
    ("larkspur", "clock-voltage", Curves),
    ("plover", "clock-voltage", Curves),
    ("sandpiper", "hold-back", Curves),
    ("larkspur", "hold-back", Curves),
    ("sandpiper", "free", type(None)),
    ("wren", "free", type(None)),
]
RUN_TO_THEIR_END = {(rig, name) for rig, name, _ in (*JUDGED, *OTHERS)}
