"""Wild requests made of the application's own OpenAPI schema: whatever is asked, no answer is 5xx.

`YELLOW_CLEAN_FUZZ` names how many requests (`make fuzz` sends 10,000); the seed is fixed, so that a run that found
something finds it again.
"""

from __future__ import annotations

import json
import os
import random
from collections import Counter
from contextlib import suppress
from typing import Any

import schemathesis
from django.conf import settings
from django.test import TransactionTestCase
from hypothesis import HealthCheck, Phase, Verbosity, given, seed
from hypothesis import settings as how
from hypothesis.errors import Unsatisfiable
from schemathesis import GenerationMode
from schemathesis.core.result import Ok

from tests.clips import temporary_folder
from tests.engine.test_reel import FILM, medium
from yellowclean.engine.plan import Plan
from yellowclean.server.api import api
from yellowclean.server.models import Job, Profile, Render, Shot
from yellowclean.server.use_cases import add_shot, new_version

REQUESTS = int(os.environ.get("YELLOW_CLEAN_FUZZ", "600"))
EXISTING = 0.8
"""Share of the requests that ask for rows which are there: most code lies behind them."""

ENDLESS = "/events"
"""A stream of events never ends."""


class Fuzz(TransactionTestCase):
    def setUp(self) -> None:
        allowed = settings.YELLOW_CLEAN.media_folders[0]
        allowed.mkdir(parents=True, exist_ok=True)
        self.source = medium(temporary_folder(self, allowed) / "a.mkv", 1, 3, FILM, None)
        self.client.raise_request_exception = False
        self.random, self.found, self.counts = random.Random(9), list[str](), Counter[int]()

    def test_no_request_made_of_the_schema_answers_5xx(self) -> None:
        schema = schemathesis.openapi.from_dict(api.get_openapi_schema())
        every = [found.ok() for found in schema.get_all_operations() if isinstance(found, Ok)]
        operations = [operation for operation in every if not operation.path.endswith(ENDLESS)]
        each = -(-REQUESTS // (2 * len(operations)))
        for operation in operations:
            for mode in GenerationMode:
                with suppress(Unsatisfiable):  # where nothing can be wrong
                    self._run(operation.as_strategy(generation_mode=mode), each)
        print(f"api: {sum(self.counts.values())} tried, {dict(sorted(self.counts.items()))}, {len(self.found)} 5xx")
        self.assertEqual([], self.found[:20])
        self.assertGreater(self.counts.total(), 0.7 * REQUESTS)
        self.assertGreater(self.counts[2], 0.2 * REQUESTS, "most requests were refused at the door")

    def _run(self, cases: Any, count: int) -> None:
        @seed(9)
        @how(
            max_examples=count, deadline=None, database=None, phases=[Phase.generate], verbosity=Verbosity.quiet,
            suppress_health_check=list(HealthCheck),
        )  # fmt: skip
        @given(cases)
        def attempt(case: Any) -> None:
            self._send(case)

        attempt()

    def _send(self, case: Any) -> None:
        rows = self._rows()
        for name in case.path_parameters or {}:
            if name in rows and self.random.random() < EXISTING:
                case.path_parameters[name] = rows[name]
        asked = case.as_transport_kwargs(base_url="http://testserver")
        path = asked["url"].removeprefix("http://testserver")
        body: dict[str, Any] = {}
        if asked.get("json") is not None:
            body = {"data": json.dumps(asked["json"]), "content_type": "application/json"}
        elif asked.get("data") is not None:
            body = {"data": asked["data"], "content_type": "application/octet-stream"}
        answer = self.client.generic(case.method, path, query_params=asked.get("params") or {}, **body)
        self.counts[answer.status_code // 100] += 1
        if answer.status_code >= 500:
            self.found.append(f"{case.method} {path} {asked.get('params')} {str(body)[:300]}: {answer.status_code}")

    def _rows(self) -> dict[str, Any]:
        """Ids of rows that are there, made anew where a request deleted them."""
        job = Job.objects.last() or Job.objects.create(name="Wild")
        shot = Shot.objects.filter(job=job).last() or add_shot(job, self.source)
        version = shot.versions.last() or new_version(shot, Plan())
        render, profile = Render.objects.last(), Profile.objects.last()
        ids = {"job_id": job.pk, "shot_id": shot.pk, "version_id": version.pk}
        ids |= {"render_id": render.pk} if render else {}
        return ids | ({"profile_id": profile.pk} if profile else {})
