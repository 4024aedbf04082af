"""The ASGI application that uvicorn serves."""

import gc
import os

from django.core.asgi import get_asgi_application
from django.urls import get_resolver

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "dynamikos.web.settings")
application = get_asgi_application()
get_resolver().url_patterns  # noqa: B018  (loads every page)
# what is loaded stays: looked through by the collector again and again it costs a page some 40 ms now and then
gc.collect()
gc.freeze()
