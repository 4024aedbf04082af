from django.urls import path

from dynamikos.web.runs import views

urlpatterns = [
    path("p/<uuid:project>/runs/<uuid:pk>/dealt", views.dealt, name="run-dealt"),
    path("p/<uuid:project>/runs", views.runs, name="runs"),
    path("p/<uuid:project>/load/address", views.quick, name="quick-run"),
    path("p/<uuid:project>/load/<uuid:pk>/start", views.start, name="start-run"),
    path("p/<uuid:project>/runs/<uuid:pk>", views.run, name="run"),
    path("p/<uuid:project>/runs/<uuid:pk>/tables", views.tables, name="run-tables"),
    path("p/<uuid:project>/runs/<uuid:pk>/headline", views.headline, name="run-headline"),
    path("p/<uuid:project>/runs/<uuid:pk>/kept/<int:number>", views.kept, name="run-kept"),
    path("p/<uuid:project>/runs/<uuid:pk>/stop-gently", views.stop, {"how": "gently"}, name="stop-gently"),
    path("p/<uuid:project>/runs/<uuid:pk>/stop-now", views.stop, {"how": "now"}, name="stop-now"),
    path("p/<uuid:project>/runs/<uuid:pk>/stream", views.stream, name="run-stream"),
]
