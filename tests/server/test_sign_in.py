"""For use beyond one's own machine: nobody sees anything without an account."""

from __future__ import annotations

import os
import stat
import subprocess
import sys
from pathlib import Path

from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import call_command
from django.core.management.base import CommandError
from django.test import TestCase, override_settings

from tests.clips import temporary_folder

ROOT = Path(__file__).parents[2]


@override_settings(MIDDLEWARE=[*settings.MIDDLEWARE, *settings.SIGN_IN])
class SignIn(TestCase):
    def test_nothing_without_an_account_and_all_with_one(self) -> None:
        User.objects.create_user("anna", password="nine quays at night")
        answer = self.client.get("/api/jobs")
        self.assertEqual((answer.status_code, "sign in" in answer.json()["detail"]), (401, True))
        self.assertRedirects(self.client.get("/jobs/1"), "/sign-in/?next=/jobs/1")
        told = {"username": "anna", "password": "wrong", "next": "/jobs/1"}
        self.assertContains(self.client.post("/sign-in/", told), "do not go together")
        answer = self.client.post("/sign-in/", told | {"password": "nine quays at night"})
        self.assertRedirects(answer, "/jobs/1", fetch_redirect_response=False)
        self.assertEqual(self.client.get("/api/jobs").status_code, 200)
        elsewhere = told | {"password": "nine quays at night", "next": "https://elsewhere.example/"}
        self.client.post("/sign-out/")
        self.assertRedirects(self.client.post("/sign-in/", elsewhere), "/", fetch_redirect_response=False)
        self.client.post("/sign-out/")
        self.assertEqual(self.client.get("/api/jobs").status_code, 401)

    def test_listening_elsewhere_needs_it(self) -> None:
        with self.assertRaisesRegex(CommandError, "YELLOW_CLEAN_REQUIRE_LOGIN=1"):
            call_command("serve", host="0.0.0.0")


class Deployment(TestCase):
    def test_django_s_own_check_has_nothing_to_say_and_what_is_kept_is_private(self) -> None:
        data = temporary_folder(self) / "data"
        changed = {"YELLOW_CLEAN_REQUIRE_LOGIN": "1", "YELLOW_CLEAN_DATA": str(data)}
        environment = {k: v for k, v in os.environ.items() if not k.startswith("DJANGO")} | changed
        command = [sys.executable, "manage.py", "check", "--deploy", "--fail-level", "WARNING"]
        done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        modes = {path.name: stat.S_IMODE(path.stat().st_mode) for path in (data, *data.iterdir())}
        self.assertEqual(modes, {"data": 0o700, "secret.key": 0o600, "yellowclean.sqlite3": 0o600})
