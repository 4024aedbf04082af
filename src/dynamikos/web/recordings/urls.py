from django.urls import path

from dynamikos.web.recordings import views

urlpatterns = [path("p/<uuid:project>/recordings", views.upload, name="import-recording")]
