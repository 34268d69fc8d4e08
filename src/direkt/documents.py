"""YAML documents: read safely, checked against a model, every mistake with its line and what was expected.

Reading takes libyaml's parser, which is fast, and turns its nodes into plain values by the core schema of YAML 1.2
(so that ``yes`` is a word and ``4:2:0`` no number). Text that it does not take goes to a second parser, whose
messages are better; what only that one understands is read from there. No tag makes an object.
"""

from __future__ import annotations

import difflib
import io
import math
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar, TypeVar

import yaml as yaml_fast
from pydantic import AfterValidator, BaseModel, ConfigDict, ValidationError

from direkt import files
from direkt.errors import UnusableInput, os_words
from direkt.printable import UNSEEN

Model = TypeVar("Model", bound="Strict")
_LARGEST = 1 << 20  # bytes
_MOST = 300_000  # values, each counted as often as YAML aliases repeat it


def checked(check: Callable[[str], object]) -> AfterValidator:
    """For an annotated type: a text stays as it is, where ``check`` (which raises ValueError) takes it."""

    def keep(text: str) -> str:
        check(text)
        return text

    return AfterValidator(keep)


class Strict(BaseModel):
    """A model that knows all its entries. ``RENAMED``: what some were called before, which is an error with the new name."""

    RENAMED: ClassVar[Mapping[str, str]] = {}
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, defer_build=True)


@dataclass(frozen=True, slots=True)
class Problem:
    """One mistake."""

    line: int  # from 1; 0: the whole file
    message: str


class DocumentError(UnusableInput):
    """A document that cannot be used; ``problems`` lists each mistake."""

    def __init__(self, source: str, problems: Sequence[Problem]) -> None:
        self.source = source
        self.problems = tuple(sorted(problems, key=lambda p: p.line))
        super().__init__("\n".join(self.lines()))

    def lines(self) -> list[str]:
        """One line for each mistake: file, line, what is wrong."""
        return [
            f"{self.source}:{p.line}: {p.message}" if p.line else f"{self.source}: {p.message}" for p in self.problems
        ]


@dataclass(frozen=True, slots=True)
class Document:
    """A parsed YAML document that remembers its lines."""

    source: str
    data: Any
    tree: Any = None  # the parser's nodes, where the fast one was used

    def lines(self, path: Sequence[str | int]) -> dict[str, int]:
        """The line (from 1) of each entry of the mapping at ``path``, in one go."""
        node = self.tree
        for step in path if node is not None else ():
            node = (
                next((v for k, v in node.value if k.value == step), None)
                if isinstance(node, yaml_fast.MappingNode)
                else None
            )
        if isinstance(node, yaml_fast.MappingNode):
            return {key.value: key.start_mark.line + 1 for key, _ in node.value}
        data: Any = self.data
        for step in path:
            data = data[step] if isinstance(data, Mapping) and step in data else {}
        return {str(key): self.line([*path, key]) for key in data} if isinstance(data, Mapping) else {}

    def line(self, path: Sequence[str | int]) -> int:
        """The line (from 1) of the entry at ``path``, or of the nearest entry above it."""
        if self.tree is not None:
            return _line_in(self.tree, path)
        node, line = self.data, 1
        for step in path:
            marks = getattr(node, "lc", None)
            if marks is None:
                break
            try:
                where = marks.key(step) if isinstance(node, Mapping) else marks.item(step)
                node = node[step]
            except (KeyError, IndexError, TypeError):
                break
            line = where[0] + 1
        return line


def parse(text: str, source: str) -> Document:
    """``text`` as YAML. No tag makes an object and no code runs. Raises DocumentError."""
    if len(text) > _LARGEST:
        raise DocumentError(source, [Problem(0, f"{len(text)} characters; at most {_LARGEST} are read")])
    try:
        tree, plain_data = _fast(text)
    except _TooMuchError as error:
        raise DocumentError(source, [Problem(error.line, str(error))]) from None
    if tree is not None:
        if not isinstance(plain_data, dict):
            raise DocumentError(source, [Problem(1, f"expected entries like 'name: value', got {_kind(plain_data)}")])
        return Document(source, plain_data, tree)
    data = _carefully(text, source)
    if not isinstance(data, Mapping):
        raise DocumentError(source, [Problem(1, f"expected entries like 'name: value', got {_kind(data)}")])
    return Document(source, data)


def _carefully(text: str, source: str) -> Any:
    """What the second parser makes of it. Raises DocumentError."""
    from ruamel.yaml import YAML
    from ruamel.yaml.error import MarkedYAMLError, YAMLError
    from ruamel.yaml.reader import ReaderError

    yaml = YAML(typ="rt", pure=True)
    try:
        return yaml.load(io.StringIO(text))
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        words = " ".join(str(part) for part in (error.problem, error.context) if part) or "cannot be read"
        words = words.split("\n")[0]
        raise DocumentError(source, [Problem(mark.line + 1 if mark else 0, f"not valid YAML: {words}")]) from None
    except ReaderError as error:
        raise DocumentError(source, [Problem(0, f"not valid YAML: character {error.character!r}")]) from None
    except (
        YAMLError,
        ValueError,
        RecursionError,
        TypeError,
        KeyError,
        IndexError,
        AttributeError,
        AssertionError,
    ) as error:
        words = str(error).split("\n")[0] or type(error).__name__
        raise DocumentError(source, [Problem(0, f"not valid YAML: {words}")]) from None


def _loader() -> Any:
    """libyaml's loader without its own ideas of what a scalar is; None where libyaml is not there."""
    base = getattr(yaml_fast, "CSafeLoader", None)
    if base is None:
        return None
    nothing = staticmethod(lambda *_: None)
    plain_tags = {
        "resolve": lambda *_: "tag:yaml.org,2002:str",
        "descend_resolver": nothing,
        "ascend_resolver": nothing,
    }
    return type("Loader", (base,), plain_tags)


class _TooMuchError(Exception):
    """More levels or values than any document of ours has, or what nobody can see."""

    def __init__(self, text: str, line: int = 0) -> None:
        super().__init__(text)
        self.line = line


def _seen(text: str, line: int = 0) -> str:
    """A text, if it can be shown. Raises _TooMuchError."""
    if not text.isprintable() and (hidden := UNSEEN.search(text)):
        raise _TooMuchError(f"a character that cannot be seen (U+{ord(hidden[0]):04X}); take it out", line)
    return text


def _deeper(depth: int, values: int, left: list[int]) -> int:
    """The next level, with so many values on it. Raises _TooMuchError."""
    left[0] -= values
    if left[0] < 0:
        raise _TooMuchError(f"its YAML aliases make more than {_MOST} values of it; write the values out")
    if depth > 40:
        raise _TooMuchError("nested too deeply")
    return depth + 1


_LOADER = _loader()
_INT = re.compile(r"[-+]?\d{1,300}|0o[0-7]{1,100}|0x[0-9a-fA-F]{1,100}")
_FLOAT = re.compile(r"[-+]?(?:\.\d+|\d+(?:\.\d*)?)(?:[eE][-+]?\d+)?")


_NUMERIC = frozenset("-+.0123456789")


class _NotPlain(Exception):
    """Something that the fast way leaves to the other parser."""


def _fast(text: str) -> tuple[Any, Any]:
    """Nodes and plain values of ``text``; None for what the second parser shall look at."""
    if _LOADER is None:
        return None, None
    try:
        tree = yaml_fast.compose(text, Loader=_LOADER)
        return (tree, _value(tree, 0, [_MOST])) if tree is not None else (None, None)
    except RecursionError:
        raise _TooMuchError("nested too deeply") from None
    except (yaml_fast.YAMLError, _NotPlain, ValueError) as error:
        if "nesting depth" in str(error):  # libyaml's own limit; the second parser would only take longer to say so
            raise _TooMuchError("nested too deeply") from None
        return None, None


def _value(node: Any, depth: int, left: list[int]) -> Any:
    """A node as plain values, by the core schema of YAML 1.2 (10.3.2). Mappings with one key twice are refused."""
    kind = node.id
    if kind == "scalar":
        text = _seen(node.value, node.start_mark.line + 1)
        return text if node.style else _scalar(text)  # a style is a quote or a block mark
    depth = _deeper(depth, len(node.value), left)
    if kind == "sequence":
        return [_value(item, depth, left) for item in node.value]
    out: dict[str, Any] = {}
    for key, value in node.value:
        name = _seen(key.value, key.start_mark.line + 1) if key.id == "scalar" else ""
        if key.id != "scalar" or name in out or name == "<<":
            raise _NotPlain
        out[name] = _value(value, depth, left)
    return out


_WORDS: dict[str, Any] = {
    "": None, "~": None, "null": None, "Null": None, "NULL": None, "true": True, "True": True, "TRUE": True,
    "false": False, "False": False, "FALSE": False,
}  # fmt: skip


def _scalar(text: str) -> Any:
    if text[:1] in _NUMERIC:
        if _INT.fullmatch(text):
            return int(text, 0 if text[:2] in ("0o", "0x") else 10)
        if _FLOAT.fullmatch(text) and math.isfinite(number := float(text)):
            return number
        if text:
            return text
    return _WORDS.get(text, text)


def _line_in(node: Any, path: Sequence[str | int]) -> int:
    line = 1
    for step in path:
        if isinstance(node, yaml_fast.MappingNode):
            found = next(((key, value) for key, value in node.value if key.value == step), None)
            if found is None:
                break
            line, node = found[0].start_mark.line + 1, found[1]
        elif isinstance(node, yaml_fast.SequenceNode) and isinstance(step, int) and step < len(node.value):
            node = node.value[step]
            line = node.start_mark.line + 1
        else:
            break
    return line


def read(path: Path, source: str | None = None) -> Document:
    """The YAML file at ``path``. Raises DocumentError, also for a file that is not there or not text."""
    name = source or str(path)
    try:
        raw = files.read(path, _LARGEST)
    except OSError as error:
        raise DocumentError(name, [Problem(0, f"cannot be read: {os_words(error)}")]) from None
    try:
        return parse(raw.decode("utf-8-sig"), name)
    except UnicodeDecodeError as error:
        line = raw[: error.start].count(b"\n") + 1
        raise DocumentError(name, [Problem(line, f"not text in UTF-8 (byte {error.start})")]) from None


def check(document: Document, model: type[Model]) -> Model:
    """``document`` as ``model``. Raises DocumentError with every mistake."""
    try:
        return model.model_validate(plain(document))
    except ValidationError as error:
        problems = [_problem(document, model, detail) for detail in error.errors(include_url=False)]
        unique = {(p.line, p.message): p for p in problems}
        raise DocumentError(document.source, list(unique.values())) from None
    except RecursionError:
        raise DocumentError(document.source, [Problem(0, "nested too deeply")]) from None


def plain(document: Document) -> Any:
    """What it holds as plain dict, list, str, int, float and bool. Raises DocumentError."""
    if document.tree is not None:
        return document.data
    try:
        return _plain(document.data, 0, [_MOST])
    except _TooMuchError as error:
        raise DocumentError(document.source, [Problem(0, str(error))]) from None


def _plain(data: Any, depth: int, left: list[int]) -> Any:
    if isinstance(data, Mapping):
        depth = _deeper(depth, len(data), left)
        return {_key(key): _plain(value, depth, left) for key, value in data.items()}
    if isinstance(data, list | tuple | set):
        depth = _deeper(depth, len(data), left)
        return [_plain(value, depth, left) for value in data]
    if isinstance(data, bool) or data is None:
        return data
    if isinstance(data, int):
        return int(data)
    if isinstance(data, float) and math.isfinite(data):
        return float(data)
    return _seen(str(data))


def _key(key: object) -> str:
    return _seen(str(key))


def _problem(document: Document, model: type[BaseModel], detail: Any) -> Problem:
    path: list[str | int] = [step for step in detail["loc"] if step != "[key]"]
    kind, given = detail["type"], detail.get("input")
    line = document.line(path)
    where = ".".join(str(step) for step in path)
    if kind == "missing":
        above = document.line(path[:-1]) if len(path) > 1 else 1
        inside = f" in {'.'.join(str(step) for step in path[:-1])}" if len(path) > 1 else ""
        return Problem(above, f"{str(path[-1])!r} is missing{inside}")
    if kind == "extra_forbidden":
        at = _model_at(model, path[:-1])
        if at is not None and issubclass(at, Strict) and (new := at.RENAMED.get(str(path[-1]))) is not None:
            return Problem(line, f"{where!r} is called {new!r} now: write that instead")
        known = [field.alias or name for name, field in at.model_fields.items()] if at is not None else []
        near = difflib.get_close_matches(str(path[-1]), known, n=1)
        hint = f"; did you mean {near[0]!r}?" if near else f"; expected {', '.join(known)}" if known else ""
        return Problem(line, f"unknown entry {where!r}{hint}")
    if kind == "value_error":
        message = str(detail["ctx"]["error"])
        return Problem(line, message if where and where in message else f"{where}: {message}")
    expected = {
        "string_type": "a word or text", "int_type": "a whole number", "int_parsing": "a whole number",
        "int_from_float": "a whole number", "float_type": "a number", "float_parsing": "a number",
        "bool_type": "yes or no", "bool_parsing": "yes or no", "dict_type": "entries like 'name: value'",
        "model_type": "entries like 'name: value'", "list_type": "a list",
    }.get(kind)  # fmt: skip
    if expected is None:
        message = detail["msg"].replace("Input should be", "expected")
        return Problem(line, f"{where}: {message[0].lower()}{message[1:]}, got {_kind(given)}")
    return Problem(line, f"{where}: expected {expected}, got {_kind(given)}")


def _model_at(model: type[BaseModel], path: Sequence[str | int]) -> type[BaseModel] | None:
    """The model of what stands at ``path``; None: there is none."""
    current: Any = model
    inside = False  # behind a dict's or a list's own step
    for step in path:
        if inside:
            inside = False
        elif isinstance(current, type) and issubclass(current, BaseModel):
            field = next((f for n, f in current.model_fields.items() if step in (n, f.alias)), None)
            annotation = field.annotation if field else None
            inside = getattr(annotation, "__origin__", None) in (dict, list)
            current = _inner(annotation)
    return current if isinstance(current, type) and issubclass(current, BaseModel) else None


def _inner(annotation: Any) -> Any:
    """The model inside ``dict[str, Model]``, ``list[Model]`` or ``Model | None``."""
    for part in getattr(annotation, "__args__", ()):
        if isinstance(part, type) and issubclass(part, BaseModel):
            return part
    return annotation


def _kind(value: object) -> str:
    if value is None:
        return "nothing"
    if isinstance(value, Mapping):
        return "entries"
    if isinstance(value, list):
        return "a list"
    text = str(value)
    return repr(text if len(text) <= 60 else text[:57] + "...") if isinstance(value, str) else text[:60]
