"""Questions to the compiled form: one cell, many cells, everyone who holds an action at a scope."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from justlane.engine.compiled.counting import Compiled
from justlane.engine.compiled.flat import CEILING
from justlane.engine.compiled.on_the_way import Ways
from justlane.engine.everybody.lists import Lists, Numbers

_Line = tuple[int, int, int, bool, int, int]
"""A piece: where it starts and ends, its actions as one integer, whether it denies, its rank, its bound scope."""


class UnsuitableError(Exception):
    """A platform that has to be asked in another way."""


class Cells(NamedTuple):
    """Many (user, action, scope) cells, by number. Each of shape (cells,)."""

    user: Numbers
    action: Numbers
    scope: Numbers


class Asker:
    """Answers about a compiled platform with one kind of circumstances, roles held together and no ceilings.

    UnsuitableError otherwise: such a platform is asked through `deciding`.
    """

    def __init__(self, compiled: Compiled) -> None:
        flat = compiled.flat
        if len(flat.worlds) != 1 or flat.one_role or bool((flat.bound_kind == CEILING).any()):
            raise UnsuitableError
        self._compiled = compiled
        self._parent = flat.scope_parent
        pieces = compiled.pieces
        holds = np.append(flat.worlds[0], True)[pieces.condition] & ~pieces.ground
        self._start = np.where(holds, pieces.start, np.int32(1 << 30))
        self._end = pieces.end
        self._decide = {
            "any-allow": self._deny_wins,
            "deny-wins": self._deny_wins,
            "last-match": self._last_match,
            "nearest": self._nearest,
        }[flat.decides]
        self._asks = Ways(flat, compiled.places).asks if flat.on_the_way >= 0 else None
        self._kind_pieces: Lists = compiled.kind_pieces

    def may(self, cells: Cells) -> NDArray[np.bool_]:
        """Whether each cell is allowed."""
        flat = self._compiled.flat
        applies = _bit(flat.kind_masks[flat.scope_kind[cells.scope]], cells.action)
        allowed = applies & self._granted(cells)
        if flat.sign_in >= 0:
            allowed &= self._granted(self._elsewhere(cells, flat.sign_in, np.zeros_like(cells.scope)))
        if self._asks is not None:
            above = self._parent[cells.scope]
            while (inside := (above >= 0) & allowed).any():
                some = np.flatnonzero(inside & self._asks[np.maximum(above, 0)])
                way = Cells(cells.user[some], np.full(len(some), flat.on_the_way), above[some])
                allowed[some] &= self._granted(way)
                above = np.where(above >= 0, self._parent[above], -1)
        return allowed

    def one(self, user: int, action: int, scope: int) -> bool:
        """Whether one cell is allowed: the same without arrays, which is quicker for a single question."""
        flat = self._compiled.flat
        if not self._applies[scope] >> action & 1:
            return False
        mine = self._pieces_of(user)
        if flat.sign_in >= 0 and not self._weigh(mine, flat.sign_in, 0):
            return False
        if self._asks is not None:
            above = int(self._parent[scope])
            while above >= 0:
                if self._asks[above] and not self._weigh(mine, flat.on_the_way, above):
                    return False
                above = int(self._parent[above])
        return self._weigh(mine, action, scope)

    @cached_property
    def _applies(self) -> Sequence[int]:
        """The actions that apply to each scope, as one integer each."""
        kinds = [int.from_bytes(mask.tobytes(), "little") for mask in self._compiled.flat.kind_masks]
        return [kinds[kind] for kind in self._compiled.flat.scope_kind.tolist()]

    @cached_property
    def _lines(self) -> list[_Line]:
        """All pieces."""
        pieces = self._compiled.pieces
        masks = [int.from_bytes(mask.tobytes(), "little") for mask in pieces.masks]
        numbers = (pieces.deny.tolist(), pieces.rank.tolist(), pieces.bound.tolist())
        return list(zip(self._start.tolist(), self._end.tolist(), masks, *numbers, strict=True))

    def _pieces_of(self, user: int) -> list[_Line]:
        classes, lists, lines = self._compiled.classes, self._kind_pieces, self._lines
        groups = classes.groups
        found: list[_Line] = []
        for group in groups.items[groups.start[user] : groups.start[user + 1]].tolist():
            kind = classes.kind_of_group[group]
            if kind >= 0:
                found += [lines[p] for p in lists.items[lists.start[kind] : lists.start[kind + 1]].tolist()]
        return found

    def _weigh(self, pieces: list[_Line], action: int, scope: int) -> bool:
        here = [piece for piece in pieces if piece[0] <= scope < piece[1]]
        decides = self._compiled.flat.decides
        if decides == "nearest" and here:
            bound = max(piece[5] for piece in here)
            here = [piece for piece in here if piece[5] == bound]
        here = [piece for piece in here if piece[2] >> action & 1]
        if decides == "last-match" and here:
            here = [max(here, key=lambda piece: piece[4])]
        return bool(here) and not any(piece[3] for piece in here)

    def holders(self, action: int, scope: int) -> Numbers:
        """Numbers of all users who may do the action at the scope.

        Judged are only those whom a binding there could give it.
        """
        pieces, classes = self._compiled.pieces, self._compiled.classes
        covers = (self._start <= scope) & (scope < self._end) & ~pieces.deny
        gives = covers & _bit(pieces.masks, np.full(len(covers), action))
        lists = self._kind_pieces
        kinds = np.repeat(np.arange(len(lists.start) - 1), np.diff(lists.start))[gives[lists.items]]
        giving = np.zeros(len(lists.start), np.bool_)
        giving[kinds] = True
        giving[-1] = False  # groups that bring nothing
        groups = giving[classes.kind_of_group]
        flat = self._compiled.flat
        users = flat.member_user[np.flatnonzero(groups[flat.member_group])]
        users = users[np.flatnonzero(np.diff(users, prepend=-1))]
        found = self.may(Cells(users, np.full(len(users), action), np.full(len(users), scope, np.int32)))
        return users[found]

    @staticmethod
    def _elsewhere(cells: Cells, action: int, scope: Numbers) -> Cells:
        return Cells(cells.user, np.full(len(scope), action), scope)

    def _granted(self, cells: Cells) -> NDArray[np.bool_]:
        """What the bindings alone say to each cell."""
        classes, pieces = self._compiled.classes, self._compiled.pieces
        cell, group = classes.groups.taken(cells.user)
        kind = classes.kind_of_group[group]
        counts = np.flatnonzero(kind >= 0)
        position, piece = self._kind_pieces.taken(kind[counts])
        cell = cell[counts][position]
        at = cells.scope[cell]
        covers = np.flatnonzero((self._start[piece] <= at) & (at < self._end[piece]))
        cell, piece = cell[covers], piece[covers]
        holds = _bit(pieces.masks[piece], cells.action[cell])
        return self._decide(len(cells.user), cell, piece, holds)

    def _deny_wins(self, count: int, cell: Numbers, piece: Numbers, holds: NDArray[np.bool_]) -> NDArray[np.bool_]:
        deny = self._compiled.pieces.deny[piece]
        allowed, denied = np.zeros(count, np.bool_), np.zeros(count, np.bool_)
        allowed[cell[holds & ~deny]] = True
        denied[cell[holds & deny]] = True
        return allowed & ~denied

    def _last_match(self, count: int, cell: Numbers, piece: Numbers, holds: NDArray[np.bool_]) -> NDArray[np.bool_]:
        pieces = self._compiled.pieces
        last = np.full(count, -1, np.int64)
        np.maximum.at(last, cell[holds], pieces.rank[piece[holds]])
        allows = np.append(~self._compiled.flat.bound_deny, False)
        return allows[last]

    def _nearest(self, count: int, cell: Numbers, piece: Numbers, holds: NDArray[np.bool_]) -> NDArray[np.bool_]:
        bound = self._compiled.pieces.bound[piece]
        nearest = np.full(count, -1, np.int64)
        np.maximum.at(nearest, cell, bound)
        near = bound == nearest[cell]
        return self._deny_wins(count, cell[near], piece[near], holds[near])


def _bit(masks: NDArray[np.uint64], action: Numbers) -> NDArray[np.bool_]:
    """Whether each mask has the action of its row."""
    words = masks[np.arange(len(masks)), action // 64]
    found: NDArray[np.bool_] = (words >> (action % 64).astype(np.uint64)) & np.uint64(1) != 0
    return found
