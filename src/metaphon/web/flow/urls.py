from django.urls import path

from metaphon.web.flow import views

app_name = "flow"
urlpatterns = [
    path("", views.show, name="show"),
    path("bus", views.add_bus, name="add_bus"),
    path("<int:strip_id>/set/<str:field>", views.set_field, name="set"),
    path("<int:strip_id>/send/<int:bus_id>", views.set_send, name="set_send"),
    path("<int:strip_id>/panel", views.panel, name="panel"),
    path("<int:strip_id>/remove", views.remove, name="remove"),
    path("<int:strip_id>/processor", views.add_processor, name="add_processor"),
    path("processor/<int:processor_id>/set/<str:field>", views.set_parameter, name="set_parameter"),
    path("processor/<int:processor_id>/remove", views.remove_processor, name="remove_processor"),
]
