from django.urls import path

from metaphon.web.field import edits, lanes, views

app_name = "field"
urlpatterns = [
    path("", views.show, name="show"),
    path("move", edits.move, name="move"),
    path("turn", edits.turn, name="turn"),
    path("place", edits.place, name="place"),
    path("convert", edits.convert, name="convert"),
    path("layout", edits.add_layout, name="add_layout"),
    path("<int:strip_id>", views.one, name="one"),
    path("<int:strip_id>/record", edits.record, name="record"),
    path("<int:strip_id>/still", edits.keep_still, name="still"),
    path("<int:strip_id>/set/<str:field>", edits.set_field, name="set"),
    path("<int:strip_id>/lanes", lanes.show, name="lanes"),
    path("<int:strip_id>/lanes/draw", lanes.draw, name="draw"),
    path("<int:strip_id>/lanes/act", lanes.act, name="act"),
    path("<int:strip_id>/lanes/table.csv", lanes.table, name="table"),
    path("<int:strip_id>/lanes/blocks.xml", lanes.blocks, name="blocks"),
    path("<int:strip_id>/lanes/bring", lanes.bring, name="bring"),
]
