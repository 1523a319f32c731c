from django.urls import path

from metaphon.web.reverb import views

app_name = "reverb"
urlpatterns = [
    path("", views.show, name="show"),
    path("edit", views.edit, name="edit"),
    path("decay", views.decay_line, name="decay"),
    path("plan", views.described, name="plan"),
    path("fields", views.fields, name="fields"),
    path("simulate", views.simulate, name="simulate"),
    path("simulation", views.progress, name="simulation"),
    path("simulation/<int:simulation_id>/cancel", views.cancel, name="cancel"),
    path("responses", views.bring, name="bring"),
    path("responses/<int:response_id>/share", views.share, name="share"),
    path("responses/<int:response_id>/forget", views.forget, name="forget"),
    path("responses/<int:response_id>/<str:form>", views.give, name="give"),
]
