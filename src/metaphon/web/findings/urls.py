from django.urls import path

from metaphon.web.findings import views

app_name = "findings"
urlpatterns = [
    path("", views.show, name="show"),
    path("leave", views.leave, name="leave"),
    path("mend", views.mend_one, name="mend"),
]
