"""Structured logs: one line per event on standard error. Tracebacks carry no local values, since those may hold keys."""

from __future__ import annotations

import logging
import sys

import structlog


def set_up(level: int = logging.INFO) -> None:
    """Set up logging for a process."""
    logging.basicConfig(level=logging.WARNING, format="%(levelname)s %(name)s %(message)s")
    logging.getLogger("apscheduler").setLevel(logging.ERROR)
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper("iso"),
            structlog.processors.format_exc_info,
            structlog.processors.LogfmtRenderer(key_order=["timestamp", "level", "event"]),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(level),
        logger_factory=structlog.PrintLoggerFactory(file=sys.stderr),
        cache_logger_on_first_use=False,
    )


def leave_out_broken_answers() -> None:
    """From now on the server does not report an answer that was not completed, where that is meant; it has no code to know that word by."""
    logging.getLogger("uvicorn.error").addFilter(lambda record: "without completing response" not in record.getMessage())
