"""A section of the machine: the places of its air, the fans between them, and where the air goes as far as the runs tell."""

import math
from collections.abc import Sequence

import msgspec
import pyqtgraph as pg
from PySide6.QtCore import QLineF, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from niente.core.analysis.air_state import AirState, Bundle, PlaceRise, WayFlow
from niente.core.model.case_air import GRAPHICS, OTHER, PACKAGE, ROOM, CaseAir, CasePlace, CaseWay
from niente.core.model.quantities import NO_BREAK_SPACE, number_text, signed_text
from niente.desktop.pages.rig.free_places import FreePlaces
from niente.desktop.services.theme import BODY, READING, SMALL, Look, Palette, font
from niente.desktop.services.translation import tr
from niente.desktop.widgets.brushes import dashed, draw_text, pen, text_width

HEAD_PX, FOOT_PX, SIDE_PX = 52.0, 30.0, 34.0
"""What the case leaves free above, below and at the sides: the legend, and the air outside."""
INSIDE_X, INSIDE_Y = 46.0, 30.0
"""How far the outermost places stand from the walls."""
MOST_PX, LEAST_PX = 26.0, 2.5
"""How wide the broadest stream is drawn, and the narrowest one."""
STEP_K = 5.0
"""The colours end at a multiple of this, over the warmest place."""
SPREAD_PX = 34.0
"""How far apart ways between the same two places are drawn."""
FAN_PX, FAN_AT = (9.0, 26.0), 0.45
"""A fan's frame, and where along its way it stands."""
NEAR_PX = 16.0


class Sketch(msgspec.Struct, frozen=True):
    """What is drawn: a machine's air, and what is known of it (``None``: nothing measured yet)."""

    air: CaseAir
    state: AirState | None


class SectionView(QWidget):
    """The drawing. ``chosen`` comes with a place's name when a person points at it; arrow keys go from place to place."""

    chosen = Signal(str)

    def __init__(self, look: Look) -> None:
        super().__init__()
        self._look = look
        self._sketch: Sketch | None = None
        self._selected = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Where the air goes; arrow keys go from place to place"))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(340, 320)
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """As in the picture at 1280 px."""
        return QSize(388, 330)

    def show_sketch(self, sketch: Sketch, selected: str) -> None:
        """Draw another state of the air."""
        self._sketch, self._selected = sketch, selected
        self.setAccessibleDescription(section_text(sketch))
        self.update()

    # -- where things stand --------------------------------------------------------------------------------------

    def case(self) -> QRectF:
        """The walls of the machine."""
        return QRectF(SIDE_PX, HEAD_PX, self.width() - 2 * SIDE_PX, max(self.height() - HEAD_PX - FOOT_PX, 60.0))

    def spot(self, place: CasePlace) -> QPointF:
        """Where a place is drawn."""
        case = self.case()
        across = case.left() + INSIDE_X + place.depth * (case.width() - 2 * INSIDE_X)
        return QPointF(across, case.bottom() - INSIDE_Y - place.height * (case.height() - 2 * INSIDE_Y))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Choose the place that is pointed at."""
        if self._sketch is None:
            return
        near = min(self._sketch.air.places, key=lambda place: QLineF(self.spot(place), event.position()).length())
        if QLineF(self.spot(near), event.position()).length() < 2.5 * NEAR_PX:
            self.chosen.emit(near.name)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Go to the next place, front to back."""
        back, ahead = (Qt.Key.Key_Left, Qt.Key.Key_Up), (Qt.Key.Key_Right, Qt.Key.Key_Down)
        if self._sketch is None or event.key() not in (*back, *ahead):
            super().keyPressEvent(event)
            return
        names = [place.name for place in sorted(self._sketch.air.places, key=lambda place: (place.depth, place.height))]
        now = names.index(self._selected) if self._selected in names else 0
        self.chosen.emit(names[(now + (1 if event.key() in ahead else -1)) % len(names)])

    # -- painting ------------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw walls, streams, fans, places, and what is known of each."""
        if self._sketch is None:
            return
        painter, p = QPainter(self), self._look.palette
        self._draw_head(painter, p)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(pen(p.ink, 1.25))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(self.case())
        traces = self._traces(self._sketch)
        for bundle in self._sketch.state.bundles if self._sketch.state is not None else ():
            self._draw_bundle(painter, self._sketch, bundle, p)
        for trace in sorted(traces, key=lambda one: -one.width_px):
            self._draw_stream(painter, trace, p)
        for trace in traces:
            self._draw_on_way(painter, trace, p)
        for place in self._sketch.air.places:
            self._draw_place(painter, place, p)
        self._write_names(painter, self._sketch, traces, p)
        painter.end()

    def _write_names(self, painter: QPainter, sketch: Sketch, traces: list["_Trace"], p: Palette) -> None:
        """Write the names of places, then those of ways, each where it covers nothing."""
        case, free = self.case(), FreePlaces()
        inside = case.adjusted(3, 3, -3, -3)
        whole = QRectF(0, HEAD_PX - 14.0, self.width(), self.height() - HEAD_PX + 14.0)
        marks = [(trace.at(FAN_AT)[0], 13.0) for trace in traces if trace.way.fans]
        for spot, reach in (*marks, *((self.spot(place), 9.0) for place in sketch.air.places)):
            free.take(QRectF(spot.x() - reach, spot.y() - reach, 2 * reach, 2 * reach))
        for place in sketch.air.places:
            self._name_place(painter, place, free, inside, p)
        for wall in _walls(case):
            free.take(wall)
        for trace in traces:
            self._name_way(painter, trace, free, whole, p)

    def _draw_head(self, painter: QPainter, p: Palette) -> None:
        draw_text(painter, QPointF(0, 12), tr("Where the air goes"), font(BODY, bold=True), p.ink)
        told = self._sketch is not None and self._sketch.state is not None
        width = tr("width: air in m³/h; dashed: not told") if told else tr("nothing measured yet")
        draw_text(painter, QPointF(0, 28), width, font(SMALL), p.soft)
        if not told:
            return
        right, count = float(self.width()), 8
        full = self._full_k()
        end = f"{number_text(full, 0)}{NO_BREAK_SPACE}K"
        draw_text(painter, QPointF(right, 12), end, font(SMALL), p.soft, align=Qt.AlignmentFlag.AlignRight)
        left = right - text_width(end, SMALL) - 6 - 12 * count
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for index in range(count):
            painter.fillRect(QRectF(left + 12 * index, 4, 12, 9), _colour((index + 0.5) / count))
        draw_text(painter, QPointF(left - 6, 12), "0", font(SMALL), p.soft, align=Qt.AlignmentFlag.AlignRight)

    def _traces(self, sketch: Sketch) -> list["_Trace"]:
        """Return the line of each way, and how it is drawn."""
        streams = {stream.way.name: stream for stream in sketch.state.streams} if sketch.state is not None else {}
        most = self._most(sketch)
        together: dict[frozenset[str], list[CaseWay]] = {}
        for way in sketch.air.ways:
            together.setdefault(frozenset((way.start, way.end)), []).append(way)
        back = {way.name for place in sketch.air.returning() for way in sketch.air.ways_back(place.name)}
        found = []
        for ways in together.values():
            for index, way in enumerate(ways):
                aside = (index - 0.5 * (len(ways) - 1)) * SPREAD_PX
                path = self._line(sketch.air, way, aside, over=way.name in back)
                stream = streams.get(way.name)
                told = stream is not None and stream.told
                width = max(MOST_PX * abs(stream.flow_m3h) / most, LEAST_PX) if stream is not None and told else 0.0
                found.append(_Trace(way, path, stream, width))
        return found

    @staticmethod
    def _most(sketch: Sketch) -> float:
        """Return the flow that is drawn broadest, in m³/h."""
        if sketch.state is None:
            return 1.0
        told = [abs(one.flow_m3h) for one in sketch.state.streams if one.told]
        return max([*told, *(abs(one.flow_m3h) for one in sketch.state.bundles)], default=1.0)

    def _line(self, air: CaseAir, way: CaseWay, aside: float, *, over: bool) -> QPainterPath:
        """Return a way's line; ``aside`` is how far it keeps from the straight one; ``over``: along the top."""
        case = self.case()
        start, end = air.place(way.start), air.place(way.end)
        if start is None or end is None:
            place = start or end
            assert place is not None
            inner = self.spot(place)
            outer = self._outside(place, aside)
            ends = (outer, inner) if start is None else (inner, outer)
            path = QPainterPath(ends[0])
            path.lineTo(ends[1])
            return path
        a, b = self.spot(start), self.spot(end)
        path = QPainterPath(a)
        if over and start.height > 0.5 and abs(start.depth - end.depth) > 0.4:
            top = case.top() - 12.0
            path.cubicTo(QPointF(a.x(), top), QPointF(a.x(), top), QPointF(0.5 * (a.x() + b.x()), top))
            path.cubicTo(QPointF(b.x() - 26.0, top), QPointF(b.x() - 26.0, top), b)
            return path
        along = b - a
        length = max(math.hypot(along.x(), along.y()), 1.0)
        side = QPointF(-along.y() / length, along.x() / length)
        if a.x() > b.x() or (a.x() == b.x() and a.y() > b.y()):
            side = -side  # the same side for ways that lead opposite ways
        middle = (a + b) / 2.0 + side * (2.0 * aside)
        path.quadTo(middle, b)
        return path

    def _outside(self, place: CasePlace, aside: float) -> QPointF:
        """Where a way from or to the room begins: before the nearest wall."""
        case, spot = self.case(), self.spot(place)
        reach = SIDE_PX - 8.0
        if place.depth <= 0.3:
            return QPointF(case.left() - reach, spot.y() + aside)
        if place.depth >= 0.7:
            return QPointF(case.right() + reach, spot.y() + aside)
        if place.height >= 0.5:
            return QPointF(spot.x() + aside, case.top() - reach * 0.5)
        return QPointF(spot.x() + aside, case.bottom() + reach * 0.6)

    def _draw_stream(self, painter: QPainter, trace: "_Trace", p: Palette) -> None:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if trace.width_px and trace.stream is not None:
            self._draw_band(painter, trace.path, trace.width_px, trace.stream.rise_k, p)
        else:
            painter.setPen(dashed(p.soft, 4, 3))
            painter.drawPath(trace.path)

    def _draw_band(self, painter: QPainter, path: QPainterPath, width_px: float, rise_k: float, p: Palette) -> None:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, wide in ((QColor(p.ground), width_px + 2.0), (_colour(rise_k / self._full_k()), width_px)):
            stroke = QPen(colour, wide)
            stroke.setCapStyle(Qt.PenCapStyle.FlatCap)
            painter.setPen(stroke)
            painter.drawPath(path)

    def _draw_bundle(self, painter: QPainter, sketch: Sketch, bundle: Bundle, p: Palette) -> None:
        """Draw ways that are told only together as one band behind them."""
        path = self._line(sketch.air, bundle.ways[0], 0.0, over=False)
        self._draw_band(painter, path, MOST_PX * abs(bundle.flow_m3h) / self._most(sketch), bundle.rise_k, p)

    def _draw_on_way(self, painter: QPainter, trace: "_Trace", p: Palette) -> None:
        """Draw what stands in a way: its fans, a filter before them, and an arrow where the direction is known."""
        fans = trace.way.fans > 0
        if trace.blown or trace.width_px:
            _arrow(painter, trace, 0.72 if fans else 0.5, p)
        if fans:
            _fan(painter, trace, FAN_AT, p)
        if any("filter" in piece for piece in trace.way.through):
            _comb(painter, trace, 0.26, p)

    def _full_k(self) -> float:
        """Return the rise at which the colours end."""
        state = self._sketch.state if self._sketch is not None else None
        most = max((one.rise_k for one in state.places if one.told), default=0.0) if state is not None else 0.0
        return STEP_K * max(math.ceil(most / STEP_K), 2)

    def _known(self, place: CasePlace) -> PlaceRise | None:
        state = self._sketch.state if self._sketch is not None else None
        return state.rise(place.name) if state is not None else None

    def _draw_place(self, painter: QPainter, place: CasePlace, p: Palette) -> None:
        known, spot = self._known(place), self.spot(place)
        measured = known is not None and known.measured
        painter.setPen(pen(p.ground, 4.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(spot, 5.5, 5.5)
        painter.setPen(pen(p.ink, 1.5))
        painter.setBrush(QColor(p.ink if measured else p.ground))
        painter.drawEllipse(spot, 5.0 if measured else 4.25, 5.0 if measured else 4.25)
        if place.name == self._selected:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(pen(p.accent, 1.5))
            painter.drawEllipse(spot, 9.0, 9.0)

    def _name_place(self, painter: QPainter, place: CasePlace, free: FreePlaces, inside: QRectF, p: Palette) -> None:
        """Write a place's name and rise beside it, where there is room."""
        known, chosen = self._known(place), place.name == self._selected
        value, spread = rise_words(known)
        name_width = text_width(place.title, BODY, chosen)
        width = max(name_width, text_width(value, READING) + (text_width(spread, SMALL) + 4 if spread else 0))
        area = free.beside(self.spot(place), width, 33.0, 12.0, inside)
        if area is None:
            return
        colour = p.accent if chosen else p.ink
        draw_text(painter, QPointF(area.left(), area.top() + 11), place.title, font(BODY, bold=chosen), colour, halo=p.ground)
        wide = draw_text(painter, QPointF(area.left(), area.top() + 29), value, font(READING), p.ink, halo=p.ground)
        if spread:
            draw_text(painter, QPointF(area.left() + wide + 4, area.top() + 29), spread, font(SMALL), p.soft, halo=p.ground)

    def _name_way(self, painter: QPainter, trace: "_Trace", free: FreePlaces, whole: QRectF, p: Palette) -> None:
        """Write how much air takes a way that is told, and which watts enter on it, where there is room."""
        state = self._sketch.state if self._sketch is not None else None
        words = []
        if trace.stream is not None and trace.width_px and ROOM in (trace.way.start, trace.way.end):
            words.append(f"{number_text(abs(trace.stream.flow_m3h), 0)}{NO_BREAK_SPACE}m³/h")
        if state is not None:
            words += [
                _watts(state.watts[kind]) for kind in (PACKAGE, GRAPHICS) if kind in trace.way.warmed_by and state.watts[kind]
            ]
        for text in words:
            middle, away = trace.path.pointAtPercent(0.5), 10.0 + 0.5 * trace.width_px
            area = free.beside(middle, text_width(text, SMALL), 11.0, away, whole, level=True)
            if area is not None:
                draw_text(painter, QPointF(area.left(), area.top() + 9), text, font(SMALL), p.soft, halo=p.ground)


class _Trace(msgspec.Struct, frozen=True):
    """A way as it is drawn; ``width_px`` is 0 where its flow is not told."""

    way: CaseWay
    path: QPainterPath
    stream: WayFlow | None
    width_px: float

    @property
    def blown(self) -> bool:
        """Whether a fan blows along the way: one that turns; before anything is known, any fan."""
        return self.stream.blown if self.stream is not None else self.way.fans > 0

    @property
    def backwards(self) -> bool:
        """Whether the air goes the way against its description."""
        return self.stream is not None and bool(self.width_px) and self.stream.flow_m3h < 0.0

    def at(self, share: float) -> tuple[QPointF, float]:
        """Return the point at a share of the way, and the direction there in degrees, counted as painters do."""
        return self.path.pointAtPercent(share), -self.path.angleAtPercent(share)


def _walls(case: QRectF) -> tuple[QRectF, ...]:
    """Return the lines of a case, which no name may cross."""
    return (
        QRectF(case.left() - 1, case.top(), 2, case.height()),
        QRectF(case.right() - 1, case.top(), 2, case.height()),
        QRectF(case.left(), case.top() - 1, case.width(), 2),
        QRectF(case.left(), case.bottom() - 1, case.width(), 2),
    )


def _colour(share: float) -> QColor:
    """Return the colour of air at a share of the warmest place's rise."""
    made: QColor = pg.colormap.get("cividis").map([min(max(share, 0.0), 1.0)], mode="qcolor")[0]
    return made


def _arrow(painter: QPainter, trace: _Trace, share: float, p: Palette) -> None:
    spot, angle = trace.at(share)
    painter.save()
    painter.translate(spot)
    painter.rotate(angle + (180.0 if trace.backwards else 0.0))
    painter.setPen(pen(p.ground))
    painter.setBrush(QColor(p.ink))
    painter.drawPolygon(QPolygonF([QPointF(6, 0), QPointF(-4, -4.5), QPointF(-4, 4.5)]))
    painter.restore()


def _fan(painter: QPainter, trace: _Trace, share: float, p: Palette) -> None:
    """Draw a fan across its way: a frame with slanted blades, fewer where it stands still."""
    spot, angle = trace.at(share)
    deep, high = FAN_PX
    frame = QRectF(-0.5 * deep, -0.5 * high, deep, high)
    painter.save()
    painter.translate(spot)
    painter.rotate(angle)
    painter.setPen(pen(p.ink, 1.25))
    painter.setBrush(QColor(p.ground))
    painter.drawRect(frame)
    blades = 4 if trace.blown else 2
    for index in range(blades):
        y = frame.top() + (index + 0.25) * high / blades
        painter.drawLine(QPointF(frame.left(), y + 4.0), QPointF(frame.right(), y))
    painter.restore()


def _comb(painter: QPainter, trace: _Trace, share: float, p: Palette) -> None:
    """Draw a filter across its way: a comb."""
    spot, angle = trace.at(share)
    painter.save()
    painter.translate(spot)
    painter.rotate(angle)
    painter.setPen(pen(p.soft))
    painter.drawLine(QPointF(0, -13), QPointF(0, 13))
    for step in range(-12, 13, 4):
        painter.drawLine(QPointF(0, step), QPointF(5, step))
    painter.restore()


def _watts(watts: float) -> str:
    return f"{number_text(watts, 0)}{NO_BREAK_SPACE}W"


def rise_words(known: PlaceRise | None) -> tuple[str, str]:
    """Return a place's rise and its interval as texts: ``+5.8 K`` and ``±0.4``; open where it is not told."""
    if known is None or not known.told:
        return tr("open"), ""
    return f"{signed_text(known.rise_k, 1)}{NO_BREAK_SPACE}K", f"±{number_text(known.half_width_k, 1)}"


def source_title(kind: str) -> str:
    """Return what people call something that warms the air."""
    return {PACKAGE: tr("Package"), GRAPHICS: tr("Graphics"), OTHER: tr("Board, supply, the rest")}[kind]


def section_text(sketch: Sketch) -> str:
    """Return the section in words."""
    state = sketch.state
    if state is None:
        return tr("{n} places; nothing measured yet").format(n=len(sketch.air.places))
    return "; ".join(_said(known) for known in state.places)


def _said(known: PlaceRise) -> str:
    value, spread = rise_words(known)
    how = tr("measured") if known.measured else tr("inferred") if known.told else tr("no sensor")
    return f"{known.place.title}: {value} {spread}, {how}"


def sources_in(air: CaseAir, place: CasePlace) -> Sequence[str]:
    """Return what warms a place: in it, and on the ways that lead to it."""
    arriving = [kind for way in air.ways if way.end == place.name for kind in way.warmed_by]
    return tuple(dict.fromkeys((*place.warmed_by, *arriving)))
