from django.urls import path

from metaphon.web.intake import views

app_name = "intake"
urlpatterns = [
    path("", views.show, name="show"),
    path("upload", views.upload, name="upload"),
    path("clip/<int:clip_id>/start", views.set_start, name="set_start"),
    path("track/<int:strip_id>/remove", views.remove, name="remove"),
]
