from django.urls import path

from metaphon.web.lanes import views

app_name = "lanes"
urlpatterns = [
    path("", views.show, name="show"),
    path("edit", views.edit, name="edit"),
    path("values", views.values, name="values"),
    path("strip/<str:strip_id>/table.csv", views.table, name="table"),
    path("strip/<str:strip_id>/blocks.xml", views.blocks, name="blocks"),
    path("strip/<str:strip_id>/bring", views.bring, name="bring"),
]
