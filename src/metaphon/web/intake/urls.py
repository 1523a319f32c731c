from django.urls import path

from metaphon.web.intake import views

app_name = "intake"
urlpatterns = [
    path("", views.show, name="show"),
    path("upload", views.upload, name="upload"),
    path("edit", views.edit, name="edit"),
]
