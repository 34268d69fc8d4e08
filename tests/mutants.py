"""Plants faults in the core, one at a time, and counts those that no test notices.

``python -m tests.mutants [COUNT] [SEED] [PARTS] [NEAR]``: PARTS are files and folders of the package between commas, NEAR
is how many of the nearest test files are tried.

A fault is a comparison that is one off, an operator or a number that is another, a condition that is turned round.
Every fault gets a copy of the package of its own. The test files that lie nearest to it run first, and the first one
that fails ends it. Survivors are listed with file and line, so that a test can be written, or the fault be seen to
change nothing.
"""

from __future__ import annotations

import ast
import compileall
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor, as_completed
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PACKAGE = ROOT / "src" / "direkt"
# every room but the simulated gear, and what asks and prints
CORE = tuple(sorted(path.name for path in PACKAGE.iterdir() if path.name not in ("sim", "cli", "__init__.py", "__main__.py", "__pycache__")))
_LIMIT = 150  # s for one test file; a fault that makes it hang is noticed too

_OTHER: dict[type[ast.AST], str] = {
    ast.Lt: "<=", ast.LtE: "<", ast.Gt: ">=", ast.GtE: ">", ast.Eq: "!=", ast.NotEq: "==",
    ast.Add: "-", ast.Sub: "+", ast.Mult: "+", ast.Div: "*", ast.FloorDiv: "*", ast.Mod: "+",
    ast.LShift: ">>", ast.RShift: "<<", ast.BitAnd: "|", ast.BitOr: "&", ast.And: "or", ast.Or: "and",
}  # fmt: skip
_SIGNS = {
    ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!=", ast.Add: "+", ast.Sub: "-",
    ast.Mult: "*", ast.Div: "/", ast.FloorDiv: "//", ast.Mod: "%", ast.LShift: "<<", ast.RShift: ">>", ast.BitAnd: "&",
    ast.BitOr: "|", ast.And: "and", ast.Or: "or",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Fault:
    """Bytes of a file that are replaced."""

    path: Path
    line: int
    begin: int
    end: int
    old: str
    new: str

    def __str__(self) -> str:
        text = self.path.read_text().splitlines()[self.line - 1].strip()
        return f"{self.path.relative_to(ROOT)}:{self.line}: {self.old} becomes {self.new} in: {text}"


def faults(path: Path) -> Iterator[Fault]:
    """Every fault that can be planted in a file."""
    source = path.read_bytes()
    starts = [0]
    for line in source.splitlines(keepends=True):
        starts.append(starts[-1] + len(line))

    def place(node: ast.expr | ast.stmt, *, end: bool = False) -> int:
        if end:
            return starts[(node.end_lineno or 1) - 1] + (node.end_col_offset or 0)
        return starts[node.lineno - 1] + node.col_offset

    def between(left: ast.expr, right: ast.expr, kind: type[ast.AST]) -> Iterator[Fault]:
        begin, end = place(left, end=True), place(right)
        sign = _SIGNS[kind].encode()
        if source[begin:end].count(sign) == 1 and b"#" not in source[begin:end]:
            at = source.index(sign, begin, end)
            yield Fault(path, left.end_lineno or left.lineno, at, at + len(sign), sign.decode(), _OTHER[kind])

    for node in _worked(ast.parse(source)):
        match node:
            case ast.Compare(left=left, ops=[op], comparators=[right]) if type(op) in _OTHER:
                yield from between(left, right, type(op))
            case ast.BinOp(left=left, op=op, right=right) if type(op) in _OTHER:
                yield from between(left, right, type(op))
            case ast.BoolOp(op=op, values=[left, right, *_]):
                yield from between(left, right, type(op))
            case ast.If(test=test) | ast.IfExp(test=test) | ast.While(test=test):
                begin, end = place(test), place(test, end=True)
                old = source[begin:end].decode()
                if "\n" not in old:
                    yield Fault(path, test.lineno, begin, end, old, f"not ({old})")
            case ast.Constant(value=int() | float() as value) if not isinstance(value, bool):
                begin, end = place(node), place(node, end=True)
                yield Fault(path, node.lineno, begin, end, source[begin:end].decode(), repr(value + 1))


def _worked(tree: ast.AST) -> Iterator[ast.AST]:
    """The nodes of a file that do something: no annotations, no texts."""
    for child in ast.iter_child_nodes(tree):
        yield from _part(child)


def _part(node: ast.AST) -> Iterator[ast.AST]:
    if isinstance(node, ast.JoinedStr | ast.Import | ast.ImportFrom | ast.Raise | ast.Assert):
        return
    if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
        for part in (*node.body, *node.args.defaults):
            yield from _part(part)
    elif isinstance(node, ast.AnnAssign):
        if node.value is not None:
            yield from _part(node.value)
    else:
        yield node
        yield from _worked(node)


def tests_near(path: Path, tree: Path) -> list[str]:
    """All test files of ``tree``, those first that lie where the file lies; those that take longest last."""
    parts = path.relative_to(PACKAGE).with_suffix("").parts
    words = {word for part in parts for word in part.split("_")}

    def distance(name: str) -> tuple[int, int, int]:
        own = name.split(".")[1:]
        same = len(words & {word for part in own for word in part.split("_")})
        slow = ("test_gear", "test_demo", "test_rehearse", "test_destinations", "test_catch", "test_documents", "test_whole")
        return slow.index(own[-1]) + 1 if own[-1] in slow and not same else 0, -same, len(own)

    files = sorted((tree / "tests").rglob("test_*.py"))
    return sorted((".".join(f.relative_to(tree).with_suffix("").parts) for f in files), key=distance)


def noticed_by(fault: Fault, tree: Path, near: int | None = None) -> str | None:
    """The first of the test files (the ``near`` nearest) that fails with the fault planted; None where all pass."""
    folder = Path(tempfile.mkdtemp(prefix="direkt-fault-"))
    try:
        shutil.copytree(tree / "src", folder / "src")
        planted = folder / fault.path.relative_to(ROOT)
        source = planted.read_bytes()
        planted.write_bytes(source[: fault.begin] + fault.new.encode() + source[fault.end :])
        compileall.compile_file(planted, quiet=2, force=True)
        environment = {**os.environ, "PYTHONPATH": str(folder / "src")}
        for name in tests_near(fault.path, tree)[:near]:
            command = [sys.executable, "-m", "tests", "--file", name]
            try:
                done = subprocess.run(
                    command, cwd=tree, env=environment, capture_output=True, timeout=_LIMIT, stdin=subprocess.DEVNULL
                )
            except subprocess.TimeoutExpired:
                return f"{name} (it hangs)"
            if done.returncode:
                return name
        return None
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def main() -> int:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 45
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    parts = tuple(sys.argv[3].split(",")) if len(sys.argv) > 3 else CORE
    near = int(sys.argv[4]) if len(sys.argv) > 4 else None
    compileall.compile_dir(PACKAGE, quiet=2)
    paths = [p for name in parts for p in ([PACKAGE / name] if name.endswith(".py") else sorted((PACKAGE / name).rglob("*.py")))]
    everything = [fault for path in paths for fault in faults(path)]
    chosen = random.Random(seed).sample(everything, min(count, len(everything)))
    survivors: list[str] = []
    with tempfile.TemporaryDirectory(prefix="direkt-tree-") as name, ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        tree = Path(name) / "tree"  # as it is now: who works on meanwhile changes nothing
        shutil.copytree(ROOT, tree, ignore=shutil.ignore_patterns(".venv", ".git", ".*_cache"))
        running = {pool.submit(noticed_by, fault, tree, near): str(fault) for fault in chosen}
        for n, done in enumerate(as_completed(running), 1):
            found = done.result()
            if found is None:
                survivors.append(running[done])
            print(f"{n:3} {'SURVIVES' if found is None else found} - {running[done]}", flush=True)
    print(f"seed {seed}: {len(chosen) - len(survivors)} of {len(chosen)} faults noticed ({len(everything)} possible)")
    for text in survivors:
        print(f"  survives: {text}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
