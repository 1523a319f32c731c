from django.urls import path

from metaphon.web.reverb import views

app_name = "reverb"
urlpatterns = [
    path("", views.show, name="show"),
    path("edit", views.edit, name="edit"),
]
