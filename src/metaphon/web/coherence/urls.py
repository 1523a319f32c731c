from django.urls import path

from metaphon.web.coherence import views

app_name = "coherence"
urlpatterns = [
    path("", views.show, name="show"),
    path("pair", views.pair, name="pair"),
    path("likely", views.likely, name="likely"),
    path("edit", views.edit, name="edit"),
    path("group", views.align_group, name="align_group"),
    path("follow", views.follow, name="follow"),
    path("curves", views.curves, name="curves"),
    path("width", views.width_picture, name="width_picture"),
    path("fold", views.fold_progress, name="fold"),
    path("fold/measure", views.measure_fold, name="measure_fold"),
    path("fold/<int:report_id>/cancel", views.cancel_fold, name="cancel_fold"),
]
