from django.urls import path

from metaphon.web.field import views

app_name = "field"
urlpatterns = [
    path("", views.show, name="show"),
    path("<int:strip_id>/record", views.record, name="record"),
    path("<int:strip_id>/still", views.keep_still, name="still"),
    path("<int:strip_id>", views.one, name="one"),
    path("<int:strip_id>/<str:axis>", views.set_axis, name="set_axis"),
    path("move", views.move, name="move"),
    path("turn", views.turn, name="turn"),
    path("mirror", views.mirror, name="mirror"),
]
