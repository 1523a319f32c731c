from django.urls import path

from metaphon.web.handover import views

app_name = "handover"
urlpatterns = [
    path("", views.show, name="show"),
    path("edit", views.edit, name="edit"),
    path("render", views.start, name="start"),
    path("render/<int:render_id>", views.progress, name="progress"),
    path("render/<int:render_id>/cancel", views.cancel, name="cancel"),
    path("render/<int:render_id>/retry", views.retry, name="retry"),
    path("render/<int:render_id>/remove", views.remove, name="remove"),
    path("file/<int:file_id>", views.download, name="download"),
]
