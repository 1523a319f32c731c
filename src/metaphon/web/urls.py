"""Every address of the application."""

from django.urls import include, path

from metaphon.web.jobs import health
from metaphon.web.shell.workspaces import WORKSPACES

handler500 = "metaphon.web.shell.faults.fault"
urlpatterns = [
    path("health", health.health, name="health"),
    path("metrics", health.metrics, name="metrics"),
    path("", include("metaphon.web.people.urls")),
    path("", include("metaphon.web.mixes.urls")),
    *(
        path(f"mix/<int:mix_id>/{workspace.name}/", include(f"{workspace.app}.urls"))
        for workspace in WORKSPACES
    ),
]
