"""Changes of units, "lb to kg", by the units library."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np


@cache
def _registry() -> Any:
    import pint

    return pint.UnitRegistry(cache_folder=None)


def _pair(unit: str) -> tuple[str, str]:
    one, _, other = unit.rpartition(" to ")
    return one.strip(), other.strip()


def why_not(unit: str) -> str:
    """What is wrong with a change of units, "" when nothing is."""
    import pint

    for one in _pair(unit):
        try:
            _registry().Unit(one)
        except Exception:  # the library raises many kinds for what it cannot read
            return f'"{one}" is not a known unit; write it like lb, kg, degF, mile/hour'
    try:
        _registry().Quantity(1.0, _pair(unit)[0]).to(_pair(unit)[1])
    except pint.DimensionalityError:
        return f'"{_pair(unit)[0]}" cannot become "{_pair(unit)[1]}": they measure different things'
    return ""


def changed(numbers: np.ndarray, unit: str) -> np.ndarray:
    """Numbers (float64) of one unit as numbers of another."""
    one, other = _pair(unit)
    out: np.ndarray = _registry().Quantity(numbers, one).to(other).magnitude
    return out
