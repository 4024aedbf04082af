from django.urls import path

from dynamikos.web.datasets import views

urlpatterns = [
    path("p/<uuid:project>/data", views.datasets, name="datasets"),
    path("p/<uuid:project>/data/import", views.upload, name="import-data"),
    path("p/<uuid:project>/data/create", views.create, name="create-data"),
    path("p/<uuid:project>/data/uploads/<uuid:pk>", views.reading, name="data-upload"),
    path("p/<uuid:project>/data/uploads/<uuid:pk>/take-in", views.take_in, name="take-in-data"),
    path("p/<uuid:project>/data/<uuid:pk>", views.dataset, name="dataset"),
    path("p/<uuid:project>/data/<uuid:pk>/cell", views.cell, name="data-cell"),
    path("p/<uuid:project>/data/<uuid:pk>/change", views.change, name="data-change"),
    path("p/<uuid:project>/data/<uuid:pk>/deal", views.deal, name="data-deal"),
    path("p/<uuid:project>/data/<uuid:pk>/csv", views.export, name="data-export"),
]
