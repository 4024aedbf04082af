from django.urls import path

from dynamikos.web.recordings import views

urlpatterns = [
    path("p/<uuid:project>/recordings", views.upload, name="import-recording"),
    path("p/<uuid:project>/recordings/paste", views.paste, name="paste"),
    path("p/<uuid:project>/recordings/<uuid:pk>/file.har", views.file, name="recording-file"),
    path("p/<uuid:project>/recordings/record", views.record, name="record"),
    path("p/<uuid:project>/recordings/<uuid:pk>", views.live, name="recording-live"),
    path("p/<uuid:project>/recordings/<uuid:pk>/results", views.results, name="recording-results"),
    path("p/<uuid:project>/recordings/<uuid:pk>/mark", views.mark, name="recording-mark"),
    path("p/<uuid:project>/recordings/<uuid:pk>/control", views.control, name="recording-control"),
    path(
        "p/<uuid:project>/recordings/<uuid:pk>/authority.pem",
        views.authority,
        name="recording-authority",
    ),
    path("p/<uuid:project>/recordings/<uuid:pk>/stream", views.stream, name="recording-stream"),
]
