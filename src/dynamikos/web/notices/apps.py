from django.apps import AppConfig


class NoticesConfig(AppConfig):
    name = "dynamikos.web.notices"
    label = "notices"
