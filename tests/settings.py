"""Settings of the tests: the product's own, with all data in a folder that goes away."""

import atexit
import os
import shutil
import tempfile

_FOLDER = tempfile.mkdtemp(prefix="yellow-clean-test-")
atexit.register(shutil.rmtree, _FOLDER, ignore_errors=True)
os.environ["YELLOW_CLEAN_DATA"] = _FOLDER
os.environ["YELLOW_CLEAN_MEDIA_FOLDERS"] = f"{_FOLDER}/library"
os.environ["YELLOW_CLEAN_MEASURE_ADDED"] = "0"  # the tests ask for it where they want it
os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"

from yellowclean.server.settings import *  # noqa: E402, F403

TEST_RUNNER = "tests.runner.TimedRunner"
