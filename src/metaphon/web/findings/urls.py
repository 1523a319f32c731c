from django.urls import path

from metaphon.web.findings import steps, views

app_name = "findings"
urlpatterns = [
    path("", views.show, name="show"),
    path("leave", views.leave, name="leave"),
    path("mend", views.mend_one, name="mend"),
    path("steps", steps.show, name="steps"),
    path("steps/begin", steps.begin, name="begin_steps"),
    path("steps/on", steps.go_on, name="go_on"),
    path("steps/leave", steps.leave, name="leave_steps"),
    path("steps/mend", steps.mend_it, name="mend_step"),
]
