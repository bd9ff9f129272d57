"""Bringing the database up to date: our tables by Alembic, the queue's by its own scripts."""

from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import inspect

from urst.db.engine import address, engine


def migrate() -> None:
    """Apply what is missing; does nothing on an up-to-date database."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    with engine().begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
    if not inspect(engine()).has_table("procrastinate_jobs"):
        import procrastinate

        app = procrastinate.App(connector=procrastinate.SyncPsycopgConnector(conninfo=address()))
        with app.open():
            app.schema_manager.apply_schema()
