"""How the air in a machine is divided: places that people name, and the ways that air can take between them.

Only what anybody can see who opens the case: where fans, filters and sensors sit, and what warms which place. How much air
takes which way is not said here; runs tell it, as far as there are sensors.
"""

import msgspec

ROOM = "room"
"""Where every way into and out of the case begins or ends; no place may have this name."""
PACKAGE, GRAPHICS, OTHER = "package", "graphics", "other"
"""What warms air: the processor, a graphics card, everything else."""


class CasePlace(msgspec.Struct, frozen=True):
    """A place of the air: its name, what people call it, where its middle stands (``depth`` 0 front to 1 back, ``height`` 0
    floor to 1 roof), the channel that reads its air (empty: none), and what warms it there without a stream of its own."""

    name: str
    title: str
    depth: float
    height: float
    channel: str = ""
    warmed_by: tuple[str, ...] = ()


class CaseWay(msgspec.Struct, frozen=True):
    """A way that air can take from ``start`` to ``end``, or back: a place's name, or ``room``.

    ``groups`` are the fan groups that blow along it, ``fans`` how many fans blow there, those that no control moves among them.
    ``through`` is what stands in the way (filter, fins), ``warmed_by`` what warms the air on it, ``opening`` what people
    call it where it leads into the room.
    """

    name: str
    start: str
    end: str
    groups: tuple[str, ...] = ()
    fans: int = 0
    through: tuple[str, ...] = ()
    warmed_by: tuple[str, ...] = ()
    opening: str = ""


class CaseAir(msgspec.Struct, frozen=True):
    """Places and ways; ``taken_in`` is the place whose air the processor's cooler takes in (empty: none is named)."""

    places: tuple[CasePlace, ...]
    ways: tuple[CaseWay, ...]
    taken_in: str = ""

    def place(self, name: str) -> CasePlace | None:
        """Return a place by name, or ``None``."""
        return next((place for place in self.places if place.name == name), None)

    @property
    def sensed(self) -> tuple[CasePlace, ...]:
        """The places whose air is read."""
        return tuple(place for place in self.places if place.channel)

    def behind(self, place: str) -> set[str]:
        """Return the places that air reaches from a place along the ways as they are described."""
        found: set[str] = set()
        ahead = [place]
        while ahead:
            here = ahead.pop()
            for way in self.ways:
                if way.start == here and way.end not in (ROOM, place, *found):
                    found.add(way.end)
                    ahead.append(way.end)
        return found

    def ways_back(self, place: str) -> tuple[CaseWay, ...]:
        """Return the ways by which air that was at a place may come back to it, where no fan drives it on."""
        behind = self.behind(place)
        return tuple(way for way in self.ways if way.end == place and not way.fans and way.start in behind)

    def returning(self) -> tuple[CasePlace, ...]:
        """Return the places that the room feeds and to which air of the case may come back."""
        fed = {way.end for way in self.ways if way.start == ROOM}
        return tuple(place for place in self.places if place.name in fed and self.ways_back(place.name))

    def problems(self, channels: tuple[str, ...], groups: tuple[str, ...]) -> list[str]:
        """Return, in words, everything that does not fit together, or fits no channel and fan group of the rig."""
        names = [place.name for place in self.places]
        found = []
        if not names:
            found.append("air.places: there is none")
        if ROOM in names or "" in names or len(set(names)) < len(names):
            found.append(f"air.places: every name stands once, and none is empty or {ROOM!r}")
        if len({way.name for way in self.ways}) < len(self.ways):
            found.append("air.ways: every name stands once")
        channels_read = [place.channel for place in self.sensed]
        if len(set(channels_read)) < len(channels_read):
            found.append("air.places: a channel reads the air at one place")
        for place in self.places:
            found += [f"air.places.{place.name}: {problem}" for problem in self._problems_of_place(place, channels)]
        for way in self.ways:
            found += [f"air.ways.{way.name}: {problem}" for problem in _problems_of_way(way, {ROOM, *names}, groups)]
        if self.taken_in and self.taken_in not in names:
            found.append(f"air.taken_in: there is no place {self.taken_in!r}")
        return found

    def _problems_of_place(self, place: CasePlace, channels: tuple[str, ...]) -> list[str]:
        found = _unknown_sources(place.warmed_by)
        if not (0.0 <= place.depth <= 1.0 and 0.0 <= place.height <= 1.0):
            found.append(f"depth {place.depth:g} and height {place.height:g} are not both between 0 and 1")
        if place.channel and place.channel not in channels:
            found.append(f"there is no channel {place.channel!r}")
        if ROOM not in self._joined(place.name):
            found.append("no way leads from it to the room")
        return found

    def _joined(self, place: str) -> set[str]:
        """Return all that hangs together with a place by ways, whichever way the air goes."""
        found, ahead = {place}, [place]
        while ahead:
            here = ahead.pop()
            beside = {other for way in self.ways for other in (way.start, way.end) if here in (way.start, way.end)}
            ahead += beside - found
            found |= beside
        return found


def _problems_of_way(way: CaseWay, names: set[str], groups: tuple[str, ...]) -> list[str]:
    found = _unknown_sources(way.warmed_by)
    if way.start == way.end or not {way.start, way.end} <= names:
        found.append(f"it leads from {way.start!r} to {way.end!r}, which are not two places")
    if way.fans < (1 if way.groups else 0):
        found.append(f"{way.fans} fans cannot be in {len(way.groups)} groups")
    return found + [f"there is no fan group {group!r}" for group in way.groups if group not in groups]


def _unknown_sources(kinds: tuple[str, ...]) -> list[str]:
    known = (PACKAGE, GRAPHICS, OTHER)
    return [f"warmed_by: {kind!r} is none of {', '.join(known)}" for kind in kinds if kind not in known]
