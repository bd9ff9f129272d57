"""Findings that the artist has looked at and accepts."""

import re

from pydantic import Field

from urst.core.checks.findings import Finding
from urst.scene.part import Part


class Accepted(Part):
    """A finding that is accepted, and why."""

    layer: str | None = Field(None, max_length=40, description="Id of the layer it is about, if of one")
    finding: str = Field(min_length=1, max_length=300, description="Its title, with # for its numbers")
    reason: str = Field(min_length=1, max_length=200, description="Why it is accepted")


def without_numbers(title: str) -> str:
    """Return a finding's title with # for its numbers, so that it is known again when they change.

    Numbers within quoted names stand.
    """
    parts = re.split(r"('[^']*')", title)
    return "".join(p if n % 2 else re.sub(r"\d+(?:[.,]\d+)*", "#", p) for n, p in enumerate(parts))


def reason(accepted: tuple[Accepted, ...], finding: Finding) -> str:
    """Return why a finding is accepted, empty if it is not; a grave one never is."""
    if finding.grave:
        return ""
    title = without_numbers(finding.title)
    return next((a.reason for a in accepted if (a.layer, a.finding) == (finding.layer, title)), "")
