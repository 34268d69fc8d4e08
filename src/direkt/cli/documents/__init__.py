"""The JSON documents that commands print: what stands in each, for type checking and for ``direkt schema NAME``.

What the core keeps in a dataclass of the same shape is that dataclass. Commands import this only to be checked; at run
time it is loaded by ``direkt schema`` alone.
"""

from __future__ import annotations

import importlib
import pkgutil
from typing import get_args, get_type_hints


def documents() -> dict[str, type]:
    """Each document by its name: all that say in their entry "schema" that they are one."""
    found: dict[str, type] = {}
    for module in pkgutil.iter_modules(__path__):
        for one in vars(importlib.import_module(f"{__name__}.{module.name}")).values():
            if isinstance(one, type) and one.__module__.startswith(__name__) and "schema" in one.__annotations__:
                (name,) = get_args(get_type_hints(one)["schema"])
                found[name.removeprefix("direkt.").removesuffix("/1")] = one
    return found
