from django.urls import path

from dynamikos.web.environments import views

urlpatterns = [
    path("p/<uuid:project>/settings", views.settings, name="settings"),
    path("p/<uuid:project>/environments", views.create, name="create-environment"),
    path("p/<uuid:project>/environments/<uuid:pk>", views.change, name="environment-change"),
    path("p/<uuid:project>/environments/<uuid:pk>/values", views.values, name="environment-values"),
    path(
        "p/<uuid:project>/environments/<uuid:pk>/secrets", views.secret, name="environment-secret"
    ),
    path("p/<uuid:project>/environments/<uuid:pk>/way", views.way, name="environment-way"),
    path("p/<uuid:project>/environments/<uuid:pk>/targets", views.agree, name="agree-target"),
    path(
        "p/<uuid:project>/environments/<uuid:pk>/targets/<int:target>/cap",
        views.cap,
        name="cap-target",
    ),
    path(
        "p/<uuid:project>/environments/<uuid:pk>/targets/<int:target>/withdraw",
        views.withdraw,
        name="withdraw-target",
    ),
]
