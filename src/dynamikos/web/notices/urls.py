from django.urls import path

from dynamikos.web.notices import views

urlpatterns = [
    path("p/<uuid:project>/settings/told", views.notices, name="notices"),
    path("p/<uuid:project>/settings/told/log", views.sent, name="notices-log"),
    path("p/<uuid:project>/settings/told/<int:number>", views.change, name="notice-change"),
    path("p/<uuid:project>/settings/told/sent/<int:number>", views.again, name="notice-again"),
]
