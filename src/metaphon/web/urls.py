"""Every address of the application."""

from django.urls import include, path

from metaphon.web.shell import views as shell

urlpatterns = [
    path("health", shell.health, name="health"),
    path("sign-in", shell.SignIn.as_view(), name="sign_in"),
    path("sign-out", shell.sign_out, name="sign_out"),
    path("", include("metaphon.web.mixes.urls")),
    path("mix/<int:mix_id>/intake/", include("metaphon.web.intake.urls")),
    path("mix/<int:mix_id>/flow/", include("metaphon.web.flow.urls")),
    path("mix/<int:mix_id>/field/", include("metaphon.web.field.urls")),
    path("mix/<int:mix_id>/findings/", include("metaphon.web.findings.urls")),
    path("mix/<int:mix_id>/handover/", include("metaphon.web.handover.urls")),
    path("mix/<int:mix_id>/listen/", include("metaphon.web.listen.urls")),
]
