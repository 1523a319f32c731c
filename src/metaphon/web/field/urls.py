from django.urls import path

from metaphon.web.field import views

app_name = "field"
urlpatterns = [
    path("", views.show, name="show"),
    path("move", views.move, name="move"),
    path("turn", views.turn, name="turn"),
    path("mirror", views.mirror, name="mirror"),
]
