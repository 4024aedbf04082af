from django.urls import path

from dynamikos.web.ui import views

urlpatterns = [path("patterns/", views.patterns, name="patterns")]
