from django.urls import path

from metaphon.web.listen import user_files, views

app_name = "listen"
urlpatterns = [
    path("", views.show, name="show"),
    path("sources", views.sources, name="sources"),
    path("headphones", views.headphones, name="headphones"),
    path("head", views.head, name="head"),
    path("calibrate", views.calibrate, name="calibrate"),
    path("preset", user_files.keep_preset, name="keep_preset"),
    path("preset/<int:preset_id>/forget", user_files.forget_preset, name="forget_preset"),
    path("file/<str:kind>", user_files.bring, name="bring"),
    path("file/<int:file_id>/forget", user_files.forget_file, name="forget_file"),
    path("reference", user_files.bring_reference, name="bring_reference"),
    path("refer/<int:file_id>", user_files.refer, name="refer"),
    path(
        "reference/<int:reference_id>/forget", user_files.forget_reference, name="forget_reference"
    ),
]
