"""The handbook: a page for each kind of layer, kept beside its code."""

from functools import cache
from importlib.resources import files

from fastapi import APIRouter, Request, Response
from markdown_it import MarkdownIt

from urst.kinds.kind import Kind
from urst.kinds.registry import KINDS, named
from urst.web.templates import page

router = APIRouter()
_READER = MarkdownIt("commonmark", {"html": False}).enable("table")


@router.get("/handbook")
def contents(request: Request) -> Response:
    """What there is to read."""
    return page(
        request, "handbook.html", kinds=list(KINDS.values()), kind=None, leads={k: _lead(v) for k, v in KINDS.items()}
    )


@router.get("/handbook/{name}")
def chapter(request: Request, name: str) -> Response:
    """The page of a kind of layer."""
    kind = named(name)
    return page(
        request, "handbook.html", kinds=list(KINDS.values()), kind=kind, text=_READER.render(_written(kind.work))
    )


@cache
def _written(work: str) -> str:
    return files(work.rsplit(".", 1)[0]).joinpath("handbook.md").read_text()


def _lead(kind: Kind) -> str:
    """The first sentence below the title."""
    return next(x for x in _written(kind.work).splitlines()[1:] if x)
