from django.urls import path

from metaphon.web.field import deliveries, views

app_name = "field"
urlpatterns = [
    path("", views.show, name="show"),
    path("edit", views.edit, name="edit"),
    path("layout", views.add_layout, name="add_layout"),
    path("delivery", deliveries.choose, name="choose_delivery"),
    path("own_delivery", deliveries.keep, name="keep_delivery"),
    path("strip/<str:strip_id>", views.one, name="one"),
]
