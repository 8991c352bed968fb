"""Where the devices of a rig are drawn: columns from left to right, cables between them.

Layered drawing (after Sugiyama, Tagawa and Toda 1981, from memory): ways back are set
apart, devices get the column of their longest way from a start, long cables get a place in
every column that they pass, columns are ordered by the mean of their neighbours. Figures
are in pixels at zoom 1.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import field

from diaulos.records import dataclass
from diaulos.rig.graph import RECORDER, RigGraph
from diaulos.rig.model import Cable, Device, Direction, PortRef, SignalClass
from diaulos.rig.safety import devices_noted
from diaulos.rig.sources import INSTRUMENT

BOX_W, GAP_W = (108.0, 136.0), (34.0, 44.0)
"""The least and the most: as wide as the columns leave room for."""
ROOM_W = 1_310.0
"""What is drawn on a window of 1280 at nine tenths."""
TITLE_H, PORT_H, FOOT_H = 22.0, 16.0, 5.0
GAP_H, WIRE_H, LANE_H, MARGIN = 14.0, 10.0, 9.0, 10.0
NOTE_H = 22.0
"""Below a device at which a word of safety stands."""

Point = tuple[float, float]


@dataclass(frozen=True)
class PortPlace:
    """A port's row in its device's box."""

    ref: PortRef
    name: str
    outward: bool
    x: float
    y: float
    width: float


@dataclass(frozen=True)
class Box:
    """A device, with the ports that are shown."""

    device: str
    name: str
    x: float
    y: float
    width: float
    height: float
    ports: tuple[PortPlace, ...]
    free: int
    """Ports that nothing is plugged into and that are not shown."""
    column: int


@dataclass(frozen=True)
class Wire:
    """A cable as a line through points; `back` where it runs against the order."""

    cable: str
    points: tuple[Point, ...]
    back: bool


@dataclass(frozen=True)
class Layout:
    """The whole drawing."""

    boxes: tuple[Box, ...]
    wires: tuple[Wire, ...]
    width: float
    height: float

    def box(self, device: str) -> Box | None:
        """The box of a device, if it is drawn."""
        return next((box for box in self.boxes if box.device == device), None)

    def place(self, ref: PortRef) -> PortPlace | None:
        """The row of a port, if it is drawn."""
        box = self.box(ref.device)
        if box is None:
            return None
        return next((place for place in box.ports if place.ref == ref), None)


@dataclass
class _Cell:
    """A device or a cable passing through, in a column."""

    key: str
    height: float
    device: Device | None = None
    gap: float = GAP_H
    """What the next one stays away from it."""
    y: float = 0.0
    before: list[str] = field(default_factory=list)
    after: list[str] = field(default_factory=list)


def lay_out(
    graph: RigGraph, only: frozenset[str] | None = None, also: PortRef | None = None
) -> Layout:
    """Draw the rig, or `only` some of its devices, with the ports in use and the port
    `also`."""
    devices = {d.id: d for d in graph.rig.devices if only is None or d.id in only}
    cables = [
        c for c in graph.rig.cables if c.source.device in devices and c.target.device in devices
    ]
    backward = _ways_back(graph, devices, cables)
    forward = [c for c in cables if c.id not in backward]
    rank = _ranks(graph, devices, forward)
    columns = _columns(graph, devices, forward, rank, also)
    _order(columns)
    _settle(columns)
    return _drawn(graph, columns, cables, backward, rank, also)


def _ways_back(graph: RigGraph, devices: dict[str, Device], cables: list[Cable]) -> set[str]:
    """Cables that close a circle when the rig is walked from its instruments, then from its
    recorders: they are drawn against the order."""
    outs: dict[str, list[Cable]] = defaultdict(list)
    for cable in sorted(cables, key=lambda c: c.id):
        outs[cable.source.device].append(cable)
    state: dict[str, int] = {}
    back: set[str] = set()
    starts = sorted(
        devices.values(),
        key=lambda d: (
            d.kind != INSTRUMENT,
            any(graph.into.get((d.id, p.id)) for p in d.ports) and d.kind != RECORDER,
            d.id,
        ),
    )
    for start in starts:
        if start.id in state:
            continue
        # Depth first without recursion: a rig may be a thousand devices long.
        stack = [(start.id, iter(outs[start.id]))]
        state[start.id] = 1
        while stack:
            here, rest = stack[-1]
            step = next(rest, None)
            if step is None:
                state[here] = 2
                stack.pop()
                continue
            target = step.target.device
            if state.get(target) == 1 or target == here:
                back.add(step.id)
            elif target not in state:
                state[target] = 1
                stack.append((target, iter(outs[target])))
    return back


def _ranks(graph: RigGraph, devices: dict[str, Device], forward: list[Cable]) -> dict[str, int]:
    """Column of every device: the longest way to it; a supply stands just before what it
    feeds."""
    into: dict[str, list[str]] = defaultdict(list)
    out_of: dict[str, list[str]] = defaultdict(list)
    for cable in forward:
        if graph.source(cable).port.signal_class is SignalClass.POWER:
            continue
        into[cable.target.device].append(cable.source.device)
        out_of[cable.source.device].append(cable.target.device)
    rank = dict.fromkeys(devices, 0)
    missing = {name: len(into[name]) for name in devices}
    ready = sorted(name for name, count in missing.items() if count == 0)
    while ready:
        name = ready.pop(0)
        for target in sorted(out_of[name]):
            rank[target] = max(rank[target], rank[name] + 1)
            missing[target] -= 1
            if missing[target] == 0:
                ready.append(target)
    # A start with one way on stands next to where it goes, not at the far left.
    for name, device in devices.items():
        if not into[name] and out_of[name] and device.kind != INSTRUMENT:
            rank[name] = max(0, min(rank[t] for t in out_of[name]) - 1)
    placed: set[str] = set()
    for cable in forward:
        if graph.source(cable).port.signal_class is SignalClass.POWER:
            fed = rank[cable.target.device]
            supply = cable.source.device
            rank[supply] = min(rank[supply] if supply in placed else fed, max(0, fed - 1))
            placed.add(supply)
    return rank


def _columns(
    graph: RigGraph,
    devices: dict[str, Device],
    forward: list[Cable],
    rank: dict[str, int],
    also: PortRef | None,
) -> list[dict[str, _Cell]]:
    count = max(rank.values(), default=0) + 1
    columns: list[dict[str, _Cell]] = [{} for _ in range(count)]
    noted = devices_noted(graph.rig)
    for device in devices.values():
        shown = len(_shown(graph, device, also))
        height = TITLE_H + PORT_H * shown + FOOT_H
        gap = max(GAP_H, NOTE_H) if device.id in noted else GAP_H
        columns[rank[device.id]][device.id] = _Cell(device.id, height, device, gap)
    for cable in forward:
        first, last = rank[cable.source.device], rank[cable.target.device]
        previous = cable.source.device
        for column in range(first + 1, last):
            key = f"{cable.id}@{column}"
            columns[column][key] = _Cell(key, WIRE_H)
            _link(columns, column - 1, previous, column, key)
            previous = key
        if last > first:
            _link(columns, last - 1, previous, last, cable.target.device)
    return columns


def _link(columns: list[dict[str, _Cell]], a: int, one: str, b: int, other: str) -> None:
    columns[a][one].after.append(other)
    columns[b][other].before.append(one)


def _order(columns: list[dict[str, _Cell]]) -> None:
    """Each column by the mean place of its neighbours, down and up a few times."""
    for turn in range(6):
        downward = turn % 2 == 0
        span = range(1, len(columns)) if downward else range(len(columns) - 2, -1, -1)
        for index in span:
            other = columns[index - 1 if downward else index + 1]
            at = {key: place for place, key in enumerate(other)}
            own = {key: place for place, key in enumerate(columns[index])}

            def mean(
                cell: _Cell,
                at: dict[str, int] = at,
                own: dict[str, int] = own,
                size: int = len(other),
                down: bool = downward,
            ) -> tuple[float, int]:
                near = [at[k] for k in (cell.before if down else cell.after) if k in at]
                scaled = own[cell.key] / max(1, len(own)) * size
                return (sum(near) / len(near) if near else scaled, own[cell.key])

            cells = sorted(columns[index].values(), key=mean)
            columns[index] = {cell.key: cell for cell in cells}


def _settle(columns: list[dict[str, _Cell]]) -> None:
    """Heights: stacked, then drawn towards the neighbours without overlapping."""
    for column in columns:
        y = 0.0
        for cell in column.values():
            cell.y = y
            y += cell.height + cell.gap
    everywhere = {key: cell for column in columns for key, cell in column.items()}
    for _ in range(8):
        for column in columns:
            wanted = []
            for cell in column.values():
                near = [everywhere[k] for k in (*cell.before, *cell.after)]
                if near:
                    middle = sum(n.y + n.height / 2 for n in near) / len(near)
                    wanted.append(middle - cell.height / 2)
                else:
                    wanted.append(cell.y)
            _pack(list(column.values()), wanted)
    top = min((cell.y for cell in everywhere.values()), default=0.0)
    for cell in everywhere.values():
        cell.y += MARGIN - top


def _pack(cells: list[_Cell], wanted: list[float]) -> None:
    """Cells in their order as near as may be to where they want to be: runs of cells that
    would overlap move as one by their mean."""
    runs: list[tuple[float, float, list[int]]] = []  # top, height, members
    for index, cell in enumerate(cells):
        top, height, members = wanted[index], cell.height, [index]
        while runs and runs[-1][0] + runs[-1][1] + cells[runs[-1][2][-1]].gap > top:
            other_top, other_height, others = runs.pop()
            offset = other_height + cells[others[-1]].gap
            count = len(others)
            top = (other_top * count + (top - offset) * len(members)) / (count + len(members))
            members = [*others, *members]
            height = offset + height
        runs.append((top, height, members))
    for top, _, members in runs:
        y = top
        for index in members:
            cells[index].y = y
            y += cells[index].height + cells[index].gap


def _shown(graph: RigGraph, device: Device, also: PortRef | None) -> list[tuple[str, bool]]:
    """The ports of a device that are drawn: inputs, then outputs."""
    found = []
    for direction in (Direction.IN, Direction.OUT):
        for port in device.ports:
            used = graph.into.get((device.id, port.id)) or graph.out_of.get((device.id, port.id))
            chosen = also is not None and (also.device, also.port) == (device.id, port.id)
            if port.direction is direction and (used or chosen):
                found.append((port.id, direction is Direction.OUT))
    return found


def _widths(columns: int) -> tuple[float, float]:
    """Of a box and of the gap behind it."""
    least, most = BOX_W[0] + GAP_W[0], BOX_W[1] + GAP_W[1]
    share = min(1.0, max(0.0, (ROOM_W / max(1, columns) - least) / (most - least)))
    return (
        BOX_W[0] + share * (BOX_W[1] - BOX_W[0]),
        GAP_W[0] + share * (GAP_W[1] - GAP_W[0]),
    )


def _drawn(
    graph: RigGraph,
    columns: list[dict[str, _Cell]],
    cables: list[Cable],
    backward: set[str],
    rank: dict[str, int],
    also: PortRef | None,
) -> Layout:
    boxes: dict[str, Box] = {}
    passing: dict[str, Point] = {}
    box_w, gap_w = _widths(len(columns))
    for number, column in enumerate(columns):
        x = MARGIN + gap_w / 2 + number * (box_w + gap_w)
        for cell in column.values():
            if cell.device is None:
                passing[cell.key] = (x, cell.y + cell.height / 2)
            else:
                boxes[cell.key] = _box(graph, cell, (x, box_w), number, also)
    ends = (c.y + c.height + c.gap for column in columns for c in column.values())
    bottom = max(ends, default=GAP_H) - GAP_H
    places = {place.ref: place for box in boxes.values() for place in box.ports}
    wires = []
    lane = 0
    for cable in cables:
        start, end = places[cable.source], places[cable.target]
        first = (start.x + start.width, start.y + PORT_H / 2)
        last = (end.x, end.y + PORT_H / 2)
        if cable.id in backward or rank[cable.source.device] >= rank[cable.target.device]:
            # Below everything, each in a lane of its own.
            y = bottom + GAP_H + lane * LANE_H
            out, into = first[0] + 8 + 3 * (lane % 4), last[0] - 8 - 3 * (lane % 4)
            lane += 1
            middle: list[Point] = [(out, first[1]), (out, y), (into, y), (into, last[1])]
            wires.append(Wire(cable.id, (first, *middle, last), True))
            continue
        middle = []
        for column_number in range(rank[cable.source.device] + 1, rank[cable.target.device]):
            x, y = passing[f"{cable.id}@{column_number}"]
            middle += [(x, y), (x + box_w, y)]
        wires.append(Wire(cable.id, (first, *middle, last), False))
    width = MARGIN * 2 + gap_w / 2 + len(columns) * (box_w + gap_w) - gap_w / 2
    height = bottom + MARGIN + (GAP_H + lane * LANE_H if lane else 0.0)
    return Layout(tuple(boxes.values()), tuple(wires), width, height)


def _box(
    graph: RigGraph, cell: _Cell, across: tuple[float, float], column: int, also: PortRef | None
) -> Box:
    """`across`: where it begins, and how wide it is."""
    x, wide = across
    device = cell.device
    assert device is not None
    shown = _shown(graph, device, also)
    names = {port.id: port.name for port in device.ports}
    ports = tuple(
        PortPlace(
            PortRef(device=device.id, port=port_id),
            names[port_id],
            outward,
            x,
            cell.y + TITLE_H + index * PORT_H,
            wide,
        )
        for index, (port_id, outward) in enumerate(shown)
    )
    free = len(device.ports) - len(shown)
    return Box(device.id, device.name, x, cell.y, wide, cell.height, ports, free, column)
