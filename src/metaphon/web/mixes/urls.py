from django.urls import path

from metaphon.web.mixes import (
    addresses,
    api,
    audit,
    chain_loudness,
    history,
    openapi,
    places,
    views,
)

urlpatterns = [
    path("", views.mixes, name="mixes"),
    path("tokens/new", views.make_token, name="make_token"),
    path("tokens/<int:token_id>/forget", views.forget_token, name="forget_token"),
    path("events/new", addresses.make, name="make_address"),
    path("events/<int:address_id>/try", addresses.try_out, name="try_address"),
    path("events/<int:address_id>/forget", addresses.forget, name="forget_address"),
    path("api/openapi.json", openapi.openapi, name="openapi"),
    path("api/mix/<int:mix_id>", api.document, name="api_document"),
    path("api/mix/<int:mix_id>/edits", api.edits, name="api_edits"),
    path("mixes/new", views.create, name="create_mix"),
    path("mix/<int:mix_id>/", views.open_mix, name="open_mix"),
    path("mix/<int:mix_id>/remove", views.remove, name="remove_mix"),
    path("mix/<int:mix_id>/title", views.rename, name="rename_mix"),
    path("mix/<int:mix_id>/duplicate", views.duplicate, name="duplicate_mix"),
    path("mix/<int:mix_id>/put-away", views.put_away, name="put_away"),
    path("mix/<int:mix_id>/leave", views.leave, name="leave_mix"),
    path("mix/<int:mix_id>/members", views.members, name="members"),
    path("mix/<int:mix_id>/undo", views.step, {"kind": "undo"}, name="undo"),
    path("mix/<int:mix_id>/redo", views.step, {"kind": "redo"}, name="redo"),
    path("mix/<int:mix_id>/history", history.show, name="history"),
    path("mix/<int:mix_id>/history/<int:revision>/name", history.name, name="name_state"),
    path("mix/<int:mix_id>/history/<int:revision>/back", history.go_back, name="go_back"),
    path(
        "mix/<int:mix_id>/strip/<str:strip_id>/loudness",
        chain_loudness.show,
        name="chain_loudness",
    ),
    path("mix/<int:mix_id>/places", places.places, name="places"),
    path("mix/<int:mix_id>/audit", audit.audit_of_mix, name="audit_of_mix"),
]
