from django.urls import path

from dynamikos.web.projects import views

urlpatterns = [
    path("", views.projects, name="projects"),
    path("p/<uuid:project>/members", views.set_member, name="set-member"),
]
