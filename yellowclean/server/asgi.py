"""The ASGI application that uvicorn serves."""

import os
import warnings

from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "yellowclean.server.settings")
# WhiteNoise reads static files synchronously; they are small and cached by the browser.
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")
application = get_asgi_application()
