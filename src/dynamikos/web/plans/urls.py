from django.urls import path

from dynamikos.web.plans import persona_views, views

urlpatterns = [
    path("p/<uuid:project>/load/personas", persona_views.every, name="personas"),
    path("p/<uuid:project>/load/personas/<uuid:pk>", persona_views.one, name="persona"),
    path("p/<uuid:project>/load/personas/<uuid:pk>/copy", persona_views.copy, name="persona-copy"),
    path(
        "p/<uuid:project>/load/personas/<uuid:pk>/delete",
        persona_views.delete,
        name="persona-delete",
    ),
    path("p/<uuid:project>/load", views.plans, name="plans"),
    path("p/<uuid:project>/load/<uuid:pk>", views.plan, name="plan"),
    path("p/<uuid:project>/load/<uuid:pk>/text", views.text, name="plan-text"),
    path("p/<uuid:project>/load/<uuid:pk>/copy", views.copy, name="plan-copy"),
    path("p/<uuid:project>/load/<uuid:pk>/copy-crowd", views.copy_crowd, name="plan-crowd-copy"),
    path("p/<uuid:project>/load/<uuid:pk>/mend", views.mend, name="plan-mend"),
    path("p/<uuid:project>/load/<uuid:pk>/sheet", views.sheet, name="plan-sheet"),
    path("p/<uuid:project>/load/<uuid:pk>/suggest", views.suggest, name="plan-suggest"),
    path("p/<uuid:project>/load/<uuid:pk>/undo", views.undo, name="plan-undo"),
    path("p/<uuid:project>/load/<uuid:pk>/delete", views.delete, name="plan-delete"),
]
