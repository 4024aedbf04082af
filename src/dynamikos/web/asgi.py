"""The ASGI application that uvicorn serves."""

import gc
import os

from django.core.asgi import get_asgi_application
from django.urls import get_resolver

from dynamikos.core.forms.ready import make_ready

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "dynamikos.web.settings")
application = get_asgi_application()
get_resolver().url_patterns  # noqa: B018  (loads every page)
make_ready()
# what is loaded stays: looked through by the collector again and again it costs a page some 40 ms
# now and then
gc.collect()
gc.freeze()
