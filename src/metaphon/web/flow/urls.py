from django.urls import path

from metaphon.web.flow import conversions, prints, starting_points, views

app_name = "flow"
urlpatterns = [
    path("", views.show, name="show"),
    path("edit", views.edit, name="edit"),
    path("map", views.chart, name="map"),
    path("strip/<str:strip_id>", views.panel, name="panel"),
    path("strip/<str:strip_id>/keep", starting_points.keep, name="keep_chain"),
    path("strip/<str:strip_id>/load", starting_points.load, name="load_chain"),
    path("split", conversions.split, name="split"),
    path("gather", conversions.gather, name="gather"),
    path("print", prints.start, name="print"),
    path("print/<int:print_id>", prints.progress, name="print_progress"),
    path("print/<int:print_id>/cancel", prints.cancel, name="print_cancel"),
]
