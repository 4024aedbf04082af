from django.urls import include, path

APPS = [
    "ui",
    "accounts",
    "projects",
    "environments",
    "recordings",
    "datasets",
    "functions",
    "journeys",
    "rehearsals",
    "strands",
    "plans",
    "runs",
    "casebook",
    "notices",
]
urlpatterns = [path("", include(f"dynamikos.web.{app}.urls")) for app in APPS]
handler500 = "dynamikos.web.ui.broken.broken"
