from django.urls import path

from dynamikos.web.projects import views

urlpatterns = [
    path("", views.projects, name="projects"),
    path("p/<uuid:project>/price", views.set_price, name="set-price"),
    path("p/<uuid:project>/members", views.set_member, name="set-member"),
]
