"""Which unit of one sequence is which of another, in bounded time.

Sequences that hold many equal units everywhere cost the square of their length to align well. So long ones are first
held together by the units that each has once, in an order that both share, after the patience sort that B. Cohen has
described for comparing texts; what lies between is aligned by its longest equal stretches. Where that would take too
long it is given up: nothing there counts as the same.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Iterator, Sequence
from difflib import SequenceMatcher

_AT_ONCE = 200_000  # pairs of equal units that are looked at without more ado
_BUDGET = 4_000_000  # of such pairs, in all


def matches(one: Sequence[str], other: Sequence[str]) -> dict[int, int]:
    """The places in `one` that are alike with places in `other`, in the order of both."""
    return dict(_Aligning(one, other).run())


class _Aligning:
    def __init__(self, one: Sequence[str], other: Sequence[str]) -> None:
        self.one, self.other = one, other
        self.budget = _BUDGET

    def run(self) -> Iterator[tuple[int, int]]:
        ranges = [(0, len(self.one), 0, len(self.other))]
        while ranges:
            low, high, start, end = ranges.pop()
            while low < high and start < end and self.one[low] == self.other[start]:
                yield low, start
                low, start = low + 1, start + 1
            while low < high and start < end and self.one[high - 1] == self.other[end - 1]:
                high, end = high - 1, end - 1
                yield high, end
            if low == high or start == end:
                continue
            mine, theirs = Counter(self.one[low:high]), Counter(self.other[start:end])
            pairs = sum(count * theirs[unit] for unit, count in mine.items() if unit in theirs)
            if pairs <= _AT_ONCE:
                self.budget -= 8 * pairs + high - low
                if self.budget > 0:
                    yield from self._closely(low, high, start, end)
                continue
            self.budget -= high - low + end - start
            anchors = self._once(low, high, start, end, mine, theirs) if self.budget > 0 else []
            for left, right in zip([(low - 1, start - 1), *anchors], [*anchors, (high, end)], strict=True):
                if anchors:
                    ranges.append((left[0] + 1, right[0], left[1] + 1, right[1]))
            yield from anchors

    def _closely(self, low: int, high: int, start: int, end: int) -> Iterator[tuple[int, int]]:
        matcher = SequenceMatcher(None, self.one[low:high], self.other[start:end], autojunk=False)
        for block in matcher.get_matching_blocks():
            for n in range(block.size):
                yield low + block.a + n, start + block.b + n

    def _once(self, low: int, high: int, start: int, end: int, mine: Counter[str], theirs: Counter[str]
              ) -> list[tuple[int, int]]:
        """Units that both ranges have once: the most of them that stand in one order."""
        places = {unit: n for n, unit in enumerate(self.other[start:end], start) if theirs[unit] == 1 == mine[unit]}
        pairs = [(n, places[unit]) for n, unit in enumerate(self.one[low:high], low) if unit in places]
        tails: list[int] = []  # the last place of the best order of each length
        best: list[int] = []  # which pair that is
        before: list[int] = []
        for number, (_, place) in enumerate(pairs):
            at = bisect_left(tails, place)
            before.append(best[at - 1] if at else -1)
            if at == len(tails):
                tails.append(place)
                best.append(number)
            else:
                tails[at], best[at] = place, number
        matches = []
        number = best[-1] if best else -1
        while number >= 0:
            matches.append(pairs[number])
            number = before[number]
        return matches[::-1]
