from django.urls import path

from metaphon.web.intake import views

app_name = "intake"
urlpatterns = [
    path("", views.show, name="show"),
    path("upload", views.upload, name="upload"),
    path("edit", views.edit, name="edit"),
    path("clip/<str:strip_id>/<int:place>", views.clip, name="clip"),
    path("peaks/<int:audio_id>/<int:exponent>/<int:number>", views.peaks, name="peaks"),
]
