from django.urls import path

from dynamikos.web.casebook import views

urlpatterns = [
    path("p/<uuid:project>/casebook", views.casebooks, name="casebooks"),
    path("p/<uuid:project>/casebook/pin", views.pin, name="pin"),
    path("p/<uuid:project>/runs/<uuid:pk>/casebook", views.draft, name="run-casebook"),
    path("p/<uuid:project>/casebook/<uuid:pk>", views.casebook, name="casebook"),
    path("p/<uuid:project>/casebook/<uuid:pk>/text", views.write, name="casebook-text"),
    path("p/<uuid:project>/casebook/<uuid:pk>/blocks", views.blocks, name="casebook-blocks"),
    path("p/<uuid:project>/casebook/<uuid:pk>/undo", views.undo, name="casebook-undo"),
    path("p/<uuid:project>/casebook/<uuid:pk>/close", views.close, name="casebook-close"),
    path("p/<uuid:project>/casebook/<uuid:pk>/open", views.open_again, name="casebook-open"),
    path("p/<uuid:project>/casebook/<uuid:pk>/delete", views.delete, name="casebook-delete"),
    path("p/<uuid:project>/casebook/<uuid:pk>/link", views.link, name="casebook-link"),
    path(
        "p/<uuid:project>/casebook/<uuid:pk>/link/<int:number>",
        views.revoke,
        name="casebook-revoke",
    ),
    path(
        "p/<uuid:project>/casebook/<uuid:pk>/link/<int:number>/over",
        views.take_over,
        name="casebook-take-over",
    ),
    path("p/<uuid:project>/casebook/links", views.links, name="casebook-links"),
    path("p/<uuid:project>/casebook/<uuid:pk>/page", views.page, name="casebook-page"),
    path(
        "p/<uuid:project>/casebook/<uuid:pk>/casebook.<str:form>",
        views.export,
        name="casebook-export",
    ),
    path("read/<str:word>", views.read, name="read"),
]
