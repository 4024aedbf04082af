from django.urls import path

from dynamikos.web.plans import views

urlpatterns = [
    path("p/<uuid:project>/load", views.plans, name="plans"),
    path("p/<uuid:project>/load/<uuid:pk>", views.plan, name="plan"),
    path("p/<uuid:project>/load/<uuid:pk>/undo", views.undo, name="plan-undo"),
    path("p/<uuid:project>/load/<uuid:pk>/delete", views.delete, name="plan-delete"),
]
