"""Changes the code of the judge in small ways, one at a time, and counts the changes that the fast tests notice.

``python tests/mutation/runner.py [--count 600] [--seed 1] [--only judge/order] [--survivors FILE]``

A process collects the tests once and forks for each change: in the child the code of the changed function is put in
place of the old, in every function object that has it, and the tests that call it are run until one fails.  A change
outside of functions is imported anew, with all tests that its module's functions are called by.  What no test can
notice, since it changes nothing, is named with its reason in ``equal.toml`` beside this file.
"""

import argparse
import ast
import contextlib
import copy
import gc
import itertools
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
import tomllib
import types
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "pewter"
TARGETS = ("judge", "facts", "pki/paths.py", "pki/identity.py", "web/hsts.py", "web/cookies.py", "names/caa.py")
TESTS = (
    "judge",
    "pki",
    "web",
    "names",
    "mends",
    "plan",
    "report",
    "tasks",
    "tls",
    "test_phrases.py",
    "survey/test_store.py",
    "survey/test_sites.py",
    "journey/test_recheck.py",
)
LONGEST_SECONDS = 120
SLOW_SECONDS, BROAD_SLOW_SECONDS = 1.0, 4.0
MOST_SECONDS, BROAD_SECONDS = 8.0, 14.0
"""Of tests for one change, particular and broad ones, as measured while their calls are noted: twice what they take."""

_OTHER = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.And: ast.Or, ast.Or: ast.And,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.FloorDiv, ast.BitOr: ast.BitAnd, ast.BitAnd: ast.BitOr,
}  # fmt: skip
_DROPPED = (ast.Expr, ast.AugAssign, ast.Continue, ast.Break, ast.Return, ast.Raise)


@dataclass(frozen=True)
class Change:
    """One small change of one module."""

    module: str
    """``judge/order.py``."""

    node: int
    """Its place among all nodes of the module."""

    function: str
    """The outermost one that it is in; empty outside of functions."""

    line: int
    words: str
    """``< becomes <=: a < b``."""

    @property
    def package(self) -> str:
        first, _, rest = self.module.partition("/")
        return "judge/rules" if rest.startswith("rules/") else first if first == "judge" else self.module[:-3]

    def __str__(self) -> str:
        return f"{self.module}:{self.line} {self.function or 'module'}: {self.words}"


def changes_in(module: str) -> Iterator[Change]:
    """Every change that can be made in a module; annotations, docstrings, assertions, strict= and __all__ are left alone."""
    tree = ast.parse((SOURCE / module).read_text(encoding="utf-8"))
    numbers = {id(node): number for number, node in enumerate(ast.walk(tree))}

    def walk(node: ast.AST, function: str) -> Iterator[Change]:
        if isinstance(node, ast.Assert) or (isinstance(node, ast.Assign) and ast.unparse(node).startswith("__all__")):
            return
        if not (isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)):
            made = _changed(copy.deepcopy(node))
            if made is not None:
                words = f"{made[1]}: {ast.unparse(node).splitlines()[0][:100]}"
                yield Change(module, numbers[id(node)], function, node.lineno, words)
            for name, value in ast.iter_fields(node):
                if name in {"annotation", "returns", "type_comment"}:
                    continue
                for child in value if isinstance(value, list) else [value]:
                    if isinstance(child, ast.AST) and getattr(child, "arg", "") != "strict":
                        is_function = isinstance(node, ast.FunctionDef) and name == "body"
                        yield from walk(child, function or (node.name if is_function else ""))

    yield from walk(tree, "")


def _changed(node: ast.AST) -> tuple[ast.AST, str] | None:
    """The node, changed in place or another in its stead, and what was changed; None where there is nothing to change."""
    match node:
        case ast.Compare(ops=[op, *_]) | ast.BoolOp(op=op) | ast.BinOp(op=op) if type(op) in _OTHER:
            other = _OTHER[type(op)]()
            if isinstance(node, ast.Compare):
                node.ops[0] = other
            else:
                node.op = other
            return node, f"{type(op).__name__} becomes {type(other).__name__}"
        case ast.UnaryOp(op=ast.Not()):
            return node.operand, "without its not"
        case ast.IfExp():
            node.body, node.orelse = node.orelse, node.body
            return node, "the other way round"
        case ast.Call(args=[one, other, *_]) if not isinstance(one, ast.Starred) and not isinstance(other, ast.Starred):
            node.args[:2] = other, one
            return node, "arguments swapped"
        case ast.Constant(value=bool()):
            return ast.copy_location(ast.Constant(not node.value), node), "turned round"
        case ast.Constant(value=int() | float()):
            return ast.copy_location(ast.Constant(node.value + 1), node), "one more"
        case ast.Constant(value=str()):
            return ast.copy_location(ast.Constant(node.value + "x"), node), "another text"
    if isinstance(node, _DROPPED):
        return ast.copy_location(ast.Pass(), node), "dropped"
    return None


def code_with(change: Change) -> types.CodeType:
    """The whole module with the change; lines stay where they were."""
    path = SOURCE / change.module
    tree = ast.parse(path.read_text(encoding="utf-8"))
    node = list(ast.walk(tree))[change.node]
    made = _changed(node)
    assert made is not None
    for parent in ast.walk(tree):
        for name, value in ast.iter_fields(parent):
            if value is node:
                setattr(parent, name, made[0])
            elif isinstance(value, list):
                value[:] = [made[0] if each is node else each for each in value]
    return compile(ast.fix_missing_locations(tree), str(path), "exec")


# In the process that has the tests


class Forking:
    """In place of pytest's own loop over the tests."""

    def __init__(self, changes: list[Change], learnt: dict[str, list[str]], found: Path) -> None:
        self.changes, self.learnt, self.found = changes, learnt, found

    def pytest_runtestloop(self, session: pytest.Session) -> bool:
        items = {item.nodeid: item for item in session.items}
        gc.collect()
        functions: dict[str, list[types.FunctionType]] = defaultdict(list)
        for each in gc.get_objects():
            if isinstance(each, types.FunctionType):
                functions[each.__code__.co_filename].append(each)
        gc.freeze()  # children share what they do not touch
        with self.found.open("a", encoding="utf-8") as file:
            for number, change in enumerate(self.changes):
                chosen = [items[each] for each in self.learnt.get(f"{change.module} {change.function}", ())]
                there = functions[str(SOURCE / change.module)]
                status = _in_child(
                    lambda change=change, chosen=chosen, there=there: _noticed(session, change, chosen, there)
                )
                file.write(json.dumps([number, bool(status)]) + "\n")
                file.flush()
        return True


class Learning:
    """Writes down which tests call which functions: the most particular and the fastest first, slow ones not at all.

    Of those that are left over, which call nearly everything, some from all over: each has other set-ups.
    """

    def __init__(self, to: Path) -> None:
        self.to = to

    def pytest_runtestloop(self, session: pytest.Session) -> bool:
        callers: dict[str, set[str]] = defaultdict(set)
        seconds: dict[str, float] = {}
        outermost = _outermost()
        nodeid = ""

        def see(frame: types.FrameType, event: str, _: object) -> None:
            if event == "call":
                key = outermost.get((frame.f_code.co_filename, frame.f_code.co_firstlineno))
                if key is not None:
                    callers[key].add(nodeid)

        for item, following in zip(session.items, [*session.items[1:], None], strict=True):
            nodeid, begun = item.nodeid, time.perf_counter()
            sys.setprofile(see)
            try:
                item.config.hook.pytest_runtest_protocol(item=item, nextitem=following)
            finally:
                sys.setprofile(None)
            seconds[nodeid] = time.perf_counter() - begun
        functions = Counter(each for tests in callers.values() for each in tests)
        for key in list(callers):
            callers[f"{key.partition(' ')[0]} "] |= callers[key]
        learnt = {}
        for key, tests in callers.items():
            by_breadth = sorted(tests, key=lambda test: (functions[test], seconds[test]))
            particular = _within(MOST_SECONDS, [each for each in by_breadth if seconds[each] < SLOW_SECONDS], seconds)
            broad = [each for each in by_breadth if seconds[each] < BROAD_SLOW_SECONDS and each not in set(particular)]
            random.Random(key).shuffle(broad)
            learnt[key] = [*particular, *_within(BROAD_SECONDS, broad, seconds)]
        self.to.write_text(json.dumps(learnt))
        return True


def _within(most: float, tests: Sequence[str], seconds: dict[str, float]) -> list[str]:
    """The first of them, for as long as is granted."""
    taken = itertools.accumulate(seconds[each] for each in tests)
    return [each for each, so_far in zip(tests, taken, strict=True) if so_far - seconds[each] < most]


def _in_child(work: Callable[[], int], seconds: int = LONGEST_SECONDS) -> int:
    """The exit status of a child that does some work; one that takes too long has noticed."""
    pid = os.fork()
    if pid == 0:
        signal.alarm(seconds)
        with contextlib.suppress(OSError), Path(os.devnull).open("w") as nowhere:
            for stream in (1, 2):
                os.dup2(nowhere.fileno(), stream)
        status = 9
        try:
            status = work()
        finally:
            os._exit(status)
    return os.waitpid(pid, 0)[1]


def _run(session: pytest.Session, items: list[pytest.Item]) -> int:
    """1 as soon as a test fails."""
    for number, item in enumerate(items):
        following = items[number + 1] if number + 1 < len(items) else None
        item.config.hook.pytest_runtest_protocol(item=item, nextitem=following)
        if session.testsfailed:
            return 1
    return 0


def _outermost() -> dict[tuple[str, int], str]:
    """The module and outermost function of every function, by the file and line at which its code begins."""
    found = {}
    for module in modules():
        path = SOURCE / module
        for top in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if not isinstance(top, ast.FunctionDef):
                continue
            for inner in ast.walk(top):
                if isinstance(
                    inner, ast.FunctionDef | ast.Lambda | ast.GeneratorExp | ast.ListComp | ast.SetComp | ast.DictComp
                ):
                    decorators = getattr(inner, "decorator_list", [])
                    found.setdefault(
                        (str(path), min([inner.lineno, *(each.lineno for each in decorators)])), f"{module} {top.name}"
                    )
    return found


def _noticed(
    session: pytest.Session, change: Change, items: list[pytest.Item], functions: list[types.FunctionType]
) -> int:
    code = code_with(change)
    new = {(each.co_name, each.co_firstlineno): each for each in _all_codes(code)}
    for function in functions:
        old = function.__code__
        replaced = new.get((old.co_name, old.co_firstlineno))
        if replaced is not None and replaced.co_freevars == old.co_freevars:
            function.__code__ = replaced
    return _run(session, items)


def _all_codes(code: types.CodeType) -> Iterator[types.CodeType]:
    for each in code.co_consts:
        if isinstance(each, types.CodeType):
            yield each
            yield from _all_codes(each)


# A change outside of functions: a process of its own


class Importing:
    """Has one module's code exchanged when it is imported."""

    def __init__(self, change: Change) -> None:
        self.path = str(SOURCE / change.module)
        self.code = code_with(change)

    def install(self) -> None:
        from importlib.machinery import SourceFileLoader

        whole = SourceFileLoader.get_code

        def get_code(loader: SourceFileLoader, fullname: str) -> types.CodeType | None:
            return self.code if loader.path == self.path else whole(loader, fullname)

        SourceFileLoader.get_code = get_code  # type: ignore[method-assign]


# The whole


def modules() -> list[str]:
    found = []
    for target in TARGETS:
        path = SOURCE / target
        found += sorted(path.rglob("*.py")) if path.is_dir() else [path] if path.exists() else []
    return [str(each.relative_to(SOURCE)) for each in found]


def all_changes(only: str) -> list[Change]:
    return [each for module in modules() if only in module for each in changes_in(module)]


def run_tests(plugin: object | None, nodes: Sequence[str] = ()) -> int:
    paths = [str(ROOT / "tests" / each) for each in TESTS]
    options = ["-q", "-x", "-p", "no:cacheprovider", "-p", "no:xdist", "-o", "addopts=--import-mode=importlib"]
    os.chdir(ROOT)
    return int(pytest.main([*options, *(nodes or paths)], plugins=[plugin] if plugin is not None else []))


def part(options: argparse.Namespace) -> int:
    """One of the processes among which the changes are shared out."""
    learnt = json.loads(Path(options.learnt).read_text())
    if options.alone:
        (change,) = [each for each in chosen(options) if str(each) == options.alone]
        Importing(change).install()
        return run_tests(None, learnt.get(f"{change.module} ", ()))
    changes = chosen(options)[options.part :: options.parts]
    inside = [each for each in changes if each.function]
    found = Path(options.found)
    results: dict[int, bool] = {}
    if inside:
        run_tests(Forking(inside, learnt, found.with_suffix(".inside")))
        results = dict(json.loads(line) for line in found.with_suffix(".inside").read_text().splitlines())
    noticed = {str(each): bool(results.get(number)) for number, each in enumerate(inside)}
    for change in (each for each in changes if not each.function):
        command = [sys.executable, __file__, *_options(options), "--learnt", options.learnt, "--alone", str(change)]
        try:
            run = subprocess.run(
                command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, timeout=300, check=False
            )
            noticed[str(change)] = run.returncode != 0
        except subprocess.TimeoutExpired:
            noticed[str(change)] = True
    found.write_text(json.dumps(noticed))
    return 0


def _options(options: argparse.Namespace) -> list[str]:
    return ["--count", str(options.count), "--seed", str(options.seed), "--only", options.only]


def chosen(options: argparse.Namespace) -> list[Change]:
    every = all_changes(options.only)
    return random.Random(options.seed).sample(every, min(options.count, len(every)))


def equal() -> dict[str, str]:
    """Why a change changes nothing, by its module, function and words."""
    file = Path(__file__).with_name("equal.toml")
    return tomllib.loads(file.read_text(encoding="utf-8")) if file.exists() else {}


def key_of(change: Change) -> str:
    """As in ``equal.toml``: without the line."""
    return f"{change.module} {change.function or 'module'}: {change.words}"


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=600)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", default="")
    parser.add_argument("--parts", type=int, default=2)
    parser.add_argument("--survivors", type=Path)
    for hidden in ("--part", "--found", "--alone", "--learnt", "--learn"):
        parser.add_argument(hidden, help=argparse.SUPPRESS, type=int if hidden == "--part" else str)
    options = parser.parse_args()
    if options.learn:
        return run_tests(Learning(Path(options.learn)))
    if options.alone or options.part is not None:
        return part(options)
    changes = chosen(options)
    with tempfile.TemporaryDirectory() as folder:
        files = [Path(folder) / f"{number}.json" for number in range(options.parts)]
        learnt = Path(folder) / "learnt.json"
        subprocess.run([sys.executable, __file__, "--learn", str(learnt)], stdout=subprocess.DEVNULL, check=False)
        shared = [*_options(options), "--parts", str(options.parts), "--learnt", str(learnt)]
        running = [
            subprocess.Popen(
                [sys.executable, __file__, *shared, "--part", str(number), "--found", str(file)],
                stdout=subprocess.DEVNULL,
            )
            for number, file in enumerate(files)
        ]
        for each in running:
            each.wait()
        noticed = {name: seen for file in files for name, seen in json.loads(file.read_text()).items()}
    known = equal()
    made, seen, same = Counter[str](), Counter[str](), Counter[str]()
    survivors = []
    for change in changes:
        made[change.package] += 1
        if noticed[str(change)]:
            seen[change.package] += 1
        elif key_of(change) in known:
            same[change.package] += 1
        else:
            survivors.append(change)
    for package in (*sorted(made), "all"):
        counts = [sum(each.values()) if package == "all" else each[package] for each in (made, seen, same)]
        share = 100 * counts[1] / max(1, counts[0] - counts[2])
        print(f"{package:<14} {counts[0]:>5} made {counts[1]:>5} noticed {counts[2]:>4} change nothing {share:6.1f} %")
    for change in sorted(survivors, key=str):
        print(f"  not noticed: {change}")
    if options.survivors:
        options.survivors.write_text("\n".join(sorted(map(str, survivors))) + "\n", encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
