from django.urls import path

from metaphon.web.handover import (
    alternatives,
    asking,
    bringing,
    changes,
    platform,
    translation,
    views,
)

app_name = "handover"
urlpatterns = [
    path("", views.show, name="show"),
    path("edit", views.edit, name="edit"),
    path("alternatives", alternatives.edit, name="edit_alternatives"),
    path("translation", translation.progress, name="translation"),
    path("translation/measure", translation.measure, name="measure_translation"),
    path("translation/<int:report_id>/cancel", translation.cancel, name="cancel_translation"),
    path("platform", platform.progress, name="platform"),
    path("platform/send", platform.send, name="send"),
    path("asked", asking.keep, name="keep"),
    path("fewer", asking.fewer, name="fewer"),
    path("preset", asking.preset, name="preset"),
    path("render", views.start, name="start"),
    path("render/<int:render_id>", views.progress, name="progress"),
    path("render/<int:render_id>/cancel", views.cancel, name="cancel"),
    path("render/<int:render_id>/retry", views.retry, name="retry"),
    path("render/<int:render_id>/name", views.name, name="name"),
    path("render/<int:render_id>/report", views.report, name="report"),
    path("render/<int:render_id>/package", views.package, name="package"),
    path("render/<int:render_id>/remove", views.remove, name="remove"),
    path("render/<int:render_id>/changes/<int:since_id>", changes.show, name="changes"),
    path("file/<int:file_id>/null/<int:other_id>", changes.null, name="null"),
    path("file/<int:file_id>/bring", bringing.bring, name="bring"),
    path("file/<int:file_id>", views.download, name="download"),
]
