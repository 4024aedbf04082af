from django.apps import AppConfig


class ProjectsConfig(AppConfig):
    name = "dynamikos.web.projects"
    label = "projects"
    default_auto_field = "django.db.models.BigAutoField"
