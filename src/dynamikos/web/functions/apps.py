from django.apps import AppConfig


class FunctionsConfig(AppConfig):
    name = "dynamikos.web.functions"
    label = "functions"
