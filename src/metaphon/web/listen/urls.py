from django.urls import path

from metaphon.web.listen import views

app_name = "listen"
urlpatterns = [
    path("sources", views.sources, name="sources"),
    path("sound/<int:file_id>", views.sound, name="sound"),
]
