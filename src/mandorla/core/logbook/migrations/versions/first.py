"""The first tables of a logbook.

They stand here as they were when books began to be kept, whatever the tables of today look like.
"""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "1"
down_revision = None

_NAMED = ("machines", "plates", "spools", "instruments")


def _key() -> list[sa.Column[Any]]:
    return [sa.Column("key", sa.String(40), primary_key=True), sa.Column("revision", sa.Integer, nullable=False)]


def _reference(name: str, to: str) -> sa.Column[Any]:
    return sa.Column(name, sa.String(64), sa.ForeignKey(f"{to}.key"), nullable=True, index=True)


def _at() -> sa.Column[str]:
    return sa.Column("at", sa.String(40), nullable=False)


def _data() -> sa.Column[Any]:
    return sa.Column("data", sa.Text, nullable=False)


def upgrade() -> None:
    """Make them."""
    for name in _NAMED:
        op.create_table(name, *_key(), sa.Column("name", sa.String(80), unique=True, nullable=False), _data())
    op.create_table("plate_events", *_key(), _reference("plate", "plates"), _at(), _data())
    op.create_table(
        "projects", *_key(), sa.Column("name", sa.String(80), nullable=False), sa.Column("bytes", sa.LargeBinary, nullable=True),
        _data(),
    )  # fmt: skip
    op.create_table("trials", *_key(), _at(), sa.Column("name", sa.String(80), nullable=False), _data())
    op.create_table(
        "prints", *_key(), sa.Column("number", sa.Integer, unique=True, nullable=False),
        sa.Column("at", sa.String(40), nullable=False, index=True), sa.Column("name", sa.String(80), nullable=False),
        _reference("machine", "machines"), _reference("plate", "plates"), _reference("spool", "spools"),
        _reference("trial", "trials"), _reference("project", "projects"), _data(),
    )  # fmt: skip
    op.create_table("conclusions", *_key(), _at(), _reference("trial", "trials"), _data())
    op.create_table("notes", *_key(), _at(), _data())
    op.create_table("pictures", *_key(), _at(), sa.Column("bytes", sa.LargeBinary, nullable=True), _data())
