from django.urls import path

from dynamikos.web.journeys import as_text, columns, described, shared, views

urlpatterns = [
    path("p/<uuid:project>/journeys/described", described.described, name="journey-described"),
    path("p/<uuid:project>/journeys/shared", shared.shared_steps, name="shared-steps"),
    path("p/<uuid:project>/journeys/<uuid:pk>/share", shared.share, name="journey-share"),
    path("p/<uuid:project>/journeys/<uuid:pk>/ladder", views.ladder, name="journey-ladder"),
    path("p/<uuid:project>/journeys", views.journeys, name="journeys"),
    path(
        "p/<uuid:project>/journeys/from/<uuid:recording>",
        views.from_recording,
        name="journey-from-recording",
    ),
    path("p/<uuid:project>/journeys/<uuid:pk>", views.journey, name="journey"),
    path("p/<uuid:project>/journeys/<uuid:pk>/panel", views.panel, name="journey-panel"),
    path("p/<uuid:project>/journeys/<uuid:pk>/evaluate", views.evaluate, name="journey-evaluate"),
    path("p/<uuid:project>/journeys/<uuid:pk>/edit", views.edit, name="journey-edit"),
    path(
        "p/<uuid:project>/journeys/<uuid:pk>/undo",
        views.history,
        {"way": "undo"},
        name="journey-undo",
    ),
    path(
        "p/<uuid:project>/journeys/<uuid:pk>/redo",
        views.history,
        {"way": "redo"},
        name="journey-redo",
    ),
    path("p/<uuid:project>/journeys/<uuid:pk>/text", as_text.text, name="journey-text"),
    path("p/<uuid:project>/journeys/<uuid:pk>/columns", columns.columns, name="journey-columns"),
    path(
        "p/<uuid:project>/journeys/<uuid:pk>/columns/near",
        columns.near,
        name="journey-columns-near",
    ),
    path("p/<uuid:project>/journeys/<uuid:pk>/thinking", views.thinking, name="journey-thinking"),
    path(
        "p/<uuid:project>/journeys/<uuid:pk>/revisions", views.revisions, name="journey-revisions"
    ),
    path("p/<uuid:project>/journeys/<uuid:pk>/find", views.find_text, name="journey-find"),
    path("p/<uuid:project>/journeys/<uuid:pk>/copy", views.copy, name="journey-copy"),
    path("p/<uuid:project>/journeys/<uuid:pk>/delete", views.delete, name="journey-delete"),
    path(
        "p/<uuid:project>/journeys/<uuid:pk>/text/discard",
        as_text.discard,
        name="journey-discard-draft",
    ),
]
