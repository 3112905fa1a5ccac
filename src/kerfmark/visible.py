"""What a file says, shown so that nothing in it is obeyed: control characters, and those that turn
the direction of a text or break its lines, as pictures or numbers of themselves."""

from __future__ import annotations

import re

TURNING = re.compile(
    "[\u0080-\u009f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufeff]"
)
"""Characters beyond ASCII that a terminal or an editor would obey."""
_CONTROL = re.compile("[\x00-\x09\x0b-\x1f\x7f]")


def visible(text: str) -> str:
    """A text whose control characters, except line ends, are shown as pictures of themselves, and
    others that would be obeyed by their numbers."""
    text = _CONTROL.sub(lambda c: "␡" if c[0] == "\x7f" else chr(0x2400 + ord(c[0])), text)
    return TURNING.sub(lambda c: f"<U+{ord(c[0]):04X}>", text)
