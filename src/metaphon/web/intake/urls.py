from django.urls import path

from metaphon.web.intake import arrivals, exchange, markers, timecode, views

app_name = "intake"
urlpatterns = [
    path("", views.show, name="show"),
    path("arrivals", arrivals.create, name="arrive"),
    path("arrivals/shown", arrivals.show, name="arrivals"),
    path("arrivals/<uuid:key>", arrivals.arrival, name="arrival"),
    path("arrivals/<uuid:key>/dismiss", arrivals.dismiss, name="dismiss"),
    path("arrivals/<uuid:key>/retry", arrivals.retry, name="retry_arrival"),
    path("definition/<int:audio_id>", views.open_definition, name="open_definition"),
    path("timecode", timecode.add, name="timecode"),
    path("timecode/record", timecode.record, name="record_timecode"),
    path("timecode/<int:audio_id>", timecode.read, name="read_timecode"),
    path("exchange", exchange.take, name="take_edits"),
    path("exchange/<str:kind>", exchange.give, name="give_edits"),
    path("edit", views.edit, name="edit"),
    path("clip/<str:strip_id>/<int:place>", views.clip, name="clip"),
    path("clip/<str:strip_id>/<int:place>/markers", markers.take, name="take_markers"),
    path("marker/<str:marker_id>", views.marker, name="marker"),
    path("peaks/<int:audio_id>/<int:exponent>/<int:number>", views.peaks, name="peaks"),
]
