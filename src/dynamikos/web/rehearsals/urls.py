from django.urls import path

from dynamikos.web.rehearsals import views

urlpatterns = [
    path("p/<uuid:project>/journeys/<uuid:pk>/rehearse", views.rehearse, name="rehearse"),
    path("p/<uuid:project>/rehearsals/<uuid:pk>", views.rehearsal, name="rehearsal"),
    path("p/<uuid:project>/rehearsals/<uuid:pk>/file.har", views.file, name="rehearsal-file"),
    path(
        "p/<uuid:project>/rehearsals/<uuid:pk>/page/<int:number>", views.page, name="rehearsal-page"
    ),
    path("p/<uuid:project>/rehearsals/<uuid:pk>/stop", views.stop, name="rehearsal-stop"),
    path(
        "p/<uuid:project>/rehearsals/<uuid:pk>/clean-up", views.clean_up, name="rehearsal-clean-up"
    ),
    path("p/<uuid:project>/rehearsals/<uuid:pk>/check", views.take_check, name="rehearsal-check"),
    path("p/<uuid:project>/rehearsals/<uuid:pk>/results", views.results, name="rehearsal-results"),
    path("p/<uuid:project>/rehearsals/<uuid:pk>/stream", views.stream, name="rehearsal-stream"),
]
