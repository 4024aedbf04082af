from django.apps import AppConfig


class PlacesConfig(AppConfig):
    name = "dynamikos.web.places"
    label = "places"
    default_auto_field = "django.db.models.BigAutoField"
