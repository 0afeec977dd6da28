"""Reads job files: YAML with the line of every key kept, so that a problem can say where it is."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

import yaml
from pydantic import BaseModel, ValidationError

from ultravect.core.errors import UltravectError
from ultravect.core.model.base import Declared
from ultravect.core.model.feed import FeedFile
from ultravect.core.model.files import ConnectionFile, LayoutFile
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.layout import AnyLayout, Layout
from ultravect.core.model.problems import MOST_PROBLEMS, Problem, problems_of

_MAX_NODES = 100_000

Path = tuple[str | int, ...]
M = TypeVar("M", bound=BaseModel)


class DeclarationError(UltravectError):
    """A job, connection or layout file that cannot be used, with every problem found in it."""

    def __init__(self, detail: str, problems: list[Problem], code: str = "job-file-invalid") -> None:
        super().__init__(code, detail, hint=next((p.hint for p in problems[:1] if p.hint), "correct it"))
        self.problems = problems


@dataclass
class Document:
    """One YAML document: its data, the line of each path in it, and its own text."""

    data: Any
    text: str
    lines: dict[Path, int] = field(default_factory=dict)


class _Builder(getattr(yaml, "CSafeLoader", yaml.SafeLoader)):  # type: ignore[misc]
    """Builds plain data from nodes, noting lines; refuses double keys and runaway aliases."""

    nodes = 0

    def build(self, node: yaml.Node, path: Path, lines: dict[Path, int]) -> Any:
        self.nodes += 1
        if self.nodes > _MAX_NODES:
            raise yaml.constructor.ConstructorError(
                None, None, "the file expands to too many values", node.start_mark
            )
        lines.setdefault(path, node.start_mark.line + 1)
        if isinstance(node, yaml.MappingNode):
            result: dict[str, Any] = {}
            for key_node, value_node in node.value:
                key = str(key_node.value) if isinstance(key_node, yaml.ScalarNode) else None
                if key is None:
                    raise yaml.constructor.ConstructorError(None, None, "a key must be a word", key_node.start_mark)
                if key in result:
                    raise yaml.constructor.ConstructorError(
                        None, None, f"key {key!r} stands here twice", key_node.start_mark
                    )
                lines[(*path, key)] = key_node.start_mark.line + 1
                result[key] = self.build(value_node, (*path, key), lines)
            return result
        if isinstance(node, yaml.SequenceNode):
            return [self.build(child, (*path, index), lines) for index, child in enumerate(node.value)]
        return self.construct_object(node)


# A job file's dates and "on/off" words stay the words that were written.
_Builder.yaml_implicit_resolvers = {
    first: [
        (tag, pattern)
        for tag, pattern in resolvers
        if tag not in ("tag:yaml.org,2002:timestamp",) and not (tag == "tag:yaml.org,2002:bool" and first in "yYnNoO")
    ]
    for first, resolvers in yaml.SafeLoader.yaml_implicit_resolvers.items()
}


def read_documents(text: str) -> list[Document]:
    """Every YAML document in ``text``; DeclarationError with the line when it is not YAML."""
    source_lines = text.splitlines(keepends=True)
    documents: list[Document] = []
    try:
        loader = _Builder(text)
    except yaml.YAMLError as error:
        raise DeclarationError(f"not text that YAML allows: {error}", [Problem("", str(error))]) from None
    try:
        while loader.check_node():
            node = loader.get_node()
            if node is None:
                break
            lines: dict[Path, int] = {}
            data = loader.build(node, (), lines)
            if data is None:
                continue
            own = "".join(source_lines[node.start_mark.line : node.end_mark.line + 1])
            documents.append(Document(data, own, lines))
    except yaml.MarkedYAMLError as error:
        line = error.problem_mark.line + 1 if error.problem_mark else None
        message = f"not valid YAML: {error.problem or error.context}"
        raise DeclarationError(f"line {line}: {message}", [Problem("", message, line=line)]) from None
    except (yaml.YAMLError, RecursionError) as error:
        raise DeclarationError(f"not valid YAML: {error}", [Problem("", str(error))]) from None
    finally:
        loader.dispose()
    if len(documents) == 1:
        documents[0].text = text
    return documents


@dataclass(frozen=True)
class Declaration(Generic[M]):
    """A kind of file: its model, and the key that names what it declares."""

    key: str
    model: type[M]

    def read(self, data: Any, lines: dict[Path, int] | None = None) -> M:
        """The declaration from its structure, as the API gives it; DeclarationError lists every problem."""
        lines = lines or {}
        code = f"{self.key}-file-invalid"
        if not isinstance(data, dict):
            message = f"a {self.key} file is a mapping that starts with `ultravect: 1`"
            raise DeclarationError(message, [Problem("", message, line=lines.get(()))], code)
        try:
            return self.model.model_validate(data)
        except ValidationError as error:
            problems = problems_of(error, self.model, lines)
            count = len(problems) if len(problems) < MOST_PROBLEMS else error.error_count()
            more = f" (and {count - 1:,} more)" if count > 1 else ""
            raise DeclarationError(f"{problems[0]}{more}", problems, code) from None

    def read_text(self, text: str) -> tuple[M, Document]:
        """The one declaration in a file."""
        documents = read_documents(text)
        if len(documents) != 1:
            held = f"{len(documents)} documents; one is expected" if documents else f"no {self.key}"
            message = f"the file holds {held}"
            raise DeclarationError(message, [Problem("", message)], f"{self.key}-file-invalid")
        return self.read(documents[0].data, documents[0].lines), documents[0]


JOB = Declaration("job", Job)
CONNECTION = Declaration("connection", ConnectionFile)
LAYOUT_FILE = Declaration("layout", LayoutFile)
FEED = Declaration("feed", FeedFile)


class _LayoutAlone(Declared):
    layout: Layout


class _LayoutReader:
    """Layouts that stand alone, as a request gives them."""

    def read(self, data: Any) -> AnyLayout:
        """The layout from its structure; DeclarationError lists every problem."""
        try:
            return _LayoutAlone.model_validate({"layout": data}).layout
        except ValidationError as error:
            problems = problems_of(error, _LayoutAlone, {})
            raise DeclarationError(str(problems[0]), problems, "layout-invalid") from None


LAYOUT = _LayoutReader()


def declared_in(data: Any) -> str:
    """Which kind of file a document is: job, feed, connection or layout."""
    if isinstance(data, dict):
        for declaration in (FEED, CONNECTION, LAYOUT_FILE):
            if declaration.key in data and "job" not in data:
                return declaration.key
    return JOB.key


def job_from_data(data: Any, lines: dict[Path, int] | None = None) -> Job:
    """A job from its structure; DeclarationError lists every problem."""
    return JOB.read(data, lines)


def read_job(text: str) -> tuple[Job, Document]:
    """The one job in ``text``."""
    return JOB.read_text(text)


def write_file(data: Any) -> str:
    """A structure as the text of a file."""
    return yaml.safe_dump(data, sort_keys=False, allow_unicode=True, width=110)


def write_job(job: Job) -> str:
    """A job as the text of a job file."""
    return write_file(job.as_file())
