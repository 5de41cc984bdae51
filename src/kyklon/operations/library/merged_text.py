"""Three versions of a text made one: what was written last, what somebody made of it by hand, what is to be written."""

from __future__ import annotations

from difflib import SequenceMatcher


def merged(base: str, theirs: str, ours: str) -> tuple[str, int]:
    """The new text with the lines that were changed by hand kept, and how many places were. Where both changed one
    place, the hand's lines stay. base: as written last; theirs: as it is there now; ours: as it would be written."""
    if theirs in (base, ours):
        return ours, 0
    old, hand, new = base.splitlines(True), theirs.splitlines(True), ours.splitlines(True)
    kept = _blocks(old, hand)
    taken = _blocks(old, new)
    result: list[str] = []
    at = changes = 0
    while at <= len(old):
        by_hand, by_us = kept.get(at), taken.get(at)
        if by_hand is not None:
            end, lines = by_hand
            result += lines
            changes += 1
            end_ours = at
            while end_ours <= end:  # what we changed in the same place gives way
                own = taken.pop(end_ours, None)
                end_ours = max(end_ours + 1, own[0] + 1 if own else 0)
            del kept[at]
            if end == at:
                if at < len(old):
                    result.append(old[at])
                at += 1
            else:
                at = end
            continue
        if by_us is not None:
            end, lines = by_us
            inner = [each for each in kept if at < each < end]
            if inner:  # by hand within what we rewrote: the hand's block comes too
                for each in sorted(inner):
                    lines = lines + [line for line in kept.pop(each)[1] if line not in lines]
                    changes += 1
            result += lines
            del taken[at]
            if end == at:
                continue
            at = end
            continue
        if at < len(old):
            result.append(old[at])
        at += 1
    return "".join(result), changes


def _blocks(old: list[str], new: list[str]) -> dict[int, tuple[int, list[str]]]:
    """Where the old lines were changed: from line -> to line, and what stands there now."""
    matcher = SequenceMatcher(None, old, new, autojunk=False)
    return {a: (b, new[c:d]) for kind, a, b, c, d in matcher.get_opcodes() if kind != "equal"}
