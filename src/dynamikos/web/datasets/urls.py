from django.urls import path

from dynamikos.web.datasets import views

urlpatterns = [
    path("p/<uuid:project>/data", views.datasets, name="datasets"),
    path("p/<uuid:project>/data/import", views.upload, name="import-data"),
    path("p/<uuid:project>/data/<uuid:pk>", views.dataset, name="dataset"),
]
