from django.urls import path

from metaphon.web.flow import chains, edits, prints, views

app_name = "flow"
urlpatterns = [
    path("", views.show, name="show"),
    path("map", views.chart, name="map"),
    path("bus", edits.add_bus, name="add_bus"),
    path("route", edits.route, name="route"),
    path("bulk", edits.bulk, name="bulk"),
    path("group/<int:group_id>/<str:field>", edits.set_group, name="set_group"),
    path("print", prints.start, name="print"),
    path("print/<int:print_id>", prints.progress, name="print_progress"),
    path("print/<int:print_id>/cancel", prints.cancel, name="print_cancel"),
    path("<int:strip_id>/panel", views.panel, name="panel"),
    path("<int:strip_id>/set/<str:field>", edits.set_field, name="set"),
    path("<int:strip_id>/send/<int:bus_id>", edits.set_send, name="set_send"),
    path("<int:strip_id>/remove", edits.remove, name="remove"),
    path("<int:strip_id>/wake", prints.wake, name="wake"),
    path("<int:strip_id>/processor", chains.add, name="add_processor"),
    path("<int:strip_id>/chain/copy", chains.copy_chain, name="copy_chain"),
    path("<int:strip_id>/chain/keep", chains.keep, name="keep_chain"),
    path("<int:strip_id>/chain/load", chains.load, name="load_chain"),
    path("processor/<int:processor_id>/set/<str:field>", chains.set_parameter, name="set_parameter"),
    path("processor/<int:processor_id>/band", chains.add_band, name="add_band"),
    path("processor/<int:processor_id>/band/<int:place>/<str:field>", chains.set_band, name="set_band"),
    path("processor/<int:processor_id>/<str:action>", chains.act, name="act"),
]
