from django.urls import path

from metaphon.web.mixes import views

urlpatterns = [
    path("", views.mixes, name="mixes"),
    path("mixes/new", views.create, name="create_mix"),
    path("mix/<int:mix_id>/", views.open_mix, name="open_mix"),
    path("mix/<int:mix_id>/remove", views.remove, name="remove_mix"),
    path("mix/<int:mix_id>/title", views.rename, name="rename_mix"),
    path("mix/<int:mix_id>/members", views.members, name="members"),
    path("mix/<int:mix_id>/undo", views.step, {"kind": "undo"}, name="undo"),
    path("mix/<int:mix_id>/redo", views.step, {"kind": "redo"}, name="redo"),
    path("mix/<int:mix_id>/history", views.history, name="history"),
]
