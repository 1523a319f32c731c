from django.urls import path

from metaphon.web.coherence import views

app_name = "coherence"
urlpatterns = [
    path("", views.show, name="show"),
    path("pair", views.pair, name="pair"),
    path("edit", views.edit, name="edit"),
]
