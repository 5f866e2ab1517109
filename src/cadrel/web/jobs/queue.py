"""How a worker hears of a job: by PostgreSQL's NOTIFY, sent with the commit."""

from django.db import connection

from cadrel.web.jobs.models import Job

CHANNEL = "cadrel_jobs"


def tell_worker(job: Job) -> None:
    """Let the workers know of a queued job once the transaction is committed."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [CHANNEL, str(job.pk)])
