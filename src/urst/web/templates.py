"""Pages from templates."""

from pathlib import Path

from fastapi import Request, Response
from fastapi.templating import Jinja2Templates
from markupsafe import Markup

_templates = Jinja2Templates(directory=Path(__file__).parent / "templates")


def _clock(seconds: float) -> str:
    whole = round(seconds)
    return (
        f"{whole // 3600}:{whole // 60 % 60:02}:{whole % 60:02}" if whole >= 3600 else f"{whole // 60}:{whole % 60:02}"
    )


_templates.env.filters |= {"clock": _clock, "whole": lambda n: f"{n:,}".replace(",", "\u2009")}

_templates.env.tests["match_prefix"] = lambda text, prefix: text.startswith(prefix)


def filled(name: str, **values) -> Markup:
    """Fill a template that is a part of pages."""
    return Markup(_templates.get_template(name).render(**values))


def page(request: Request, name: str, status: int = 200, **values) -> Response:
    """Fill a template."""
    theme = "plaster" if request.cookies.get("theme") == "plaster" else "soot"
    return _templates.TemplateResponse(request, name, values | {"theme": theme}, status_code=status)
