"""Every address of the application."""

from django.urls import include, path

from metaphon.web.jobs import health
from metaphon.web.shell import views as shell
from metaphon.web.shell.workspaces import WORKSPACES

handler500 = "metaphon.web.shell.faults.fault"
urlpatterns = [
    path("health", health.health, name="health"),
    path("metrics", health.metrics, name="metrics"),
    path("sign-in", shell.SignIn.as_view(), name="sign_in"),
    path("sign-out", shell.sign_out, name="sign_out"),
    path("", include("metaphon.web.mixes.urls")),
    *(
        path(f"mix/<int:mix_id>/{workspace.name}/", include(f"{workspace.app}.urls"))
        for workspace in WORKSPACES
    ),
]
