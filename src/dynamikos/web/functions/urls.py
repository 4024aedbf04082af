from django.urls import path

from dynamikos.web.functions import views

urlpatterns = [
    path("p/<uuid:project>/functions", views.functions, name="functions"),
    path("p/<uuid:project>/functions/try", views.attempt, name="try-function"),
    path("p/<uuid:project>/functions/try/<uuid:pk>", views.attempted, name="tried-function"),
]
