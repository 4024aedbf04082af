from django.urls import path

from dynamikos.web.strands import views

urlpatterns = [
    path("p/<uuid:project>/journeys/<uuid:pk>/strands", views.strands, name="strands"),
    path("p/<uuid:project>/journeys/<uuid:pk>/strands/search", views.search, name="strands-search"),
    path("p/<uuid:project>/journeys/<uuid:pk>/strands/accept", views.accept, name="strands-accept"),
    path(
        "p/<uuid:project>/journeys/<uuid:pk>/strands/attempt", views.attempt, name="strands-attempt"
    ),
    path("p/<uuid:project>/journeys/<uuid:pk>/strands/undo", views.undo, name="strands-undo"),
    path("p/<uuid:project>/journeys/<uuid:pk>/strands/typed", views.typed, name="strands-typed"),
    path(
        "p/<uuid:project>/journeys/<uuid:pk>/strands/by-hand", views.by_hand, name="strands-by-hand"
    ),
    path(
        "p/<uuid:project>/journeys/<uuid:pk>/strands/dismiss", views.dismiss, name="strands-dismiss"
    ),
    path("p/<uuid:project>/journeys/<uuid:pk>/strands/rule", views.rule, name="strands-rule"),
    path(
        "p/<uuid:project>/journeys/<uuid:pk>/strands/recording",
        views.add_recording,
        name="strands-recording",
    ),
]
