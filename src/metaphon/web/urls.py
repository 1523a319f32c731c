"""Every address of the application."""

from django.urls import include, path

from metaphon.web.shell import views as shell
from metaphon.web.shell.workspaces import WORKSPACES

urlpatterns = [
    path("health", shell.health, name="health"),
    path("sign-in", shell.SignIn.as_view(), name="sign_in"),
    path("sign-out", shell.sign_out, name="sign_out"),
    path("", include("metaphon.web.mixes.urls")),
    *(
        path(f"mix/<int:mix_id>/{workspace.name}/", include(f"{workspace.app}.urls"))
        for workspace in WORKSPACES
    ),
]
