"""Every address of the application."""

from django.urls import include, path

from metaphon.web import operating
from metaphon.web.jobs import health
from metaphon.web.shell import guide
from metaphon.web.shell.workspaces import WORKSPACES
from metaphon.web.together import sharing

handler500 = "metaphon.web.shell.faults.fault"
urlpatterns = [
    path("health", health.health, name="health"),
    path("metrics", health.metrics, name="metrics"),
    path("helps.json", guide.helps, name="helps"),
    path("guide", guide.guide, name="guide"),
    path("guide/<slug:name>", guide.guide, name="guide_page"),
    path("guide/pictures/<slug:name>.png", guide.picture, name="guide_picture"),
    path("shared/<str:text>", sharing.shared, name="shared"),
    path("shared/<str:text>/remark", sharing.remark, name="shared_remark"),
    path("shared/<str:text>/file/<str:name>", sharing.keep, name="shared_file"),
    path("shared/<str:text>/<int:file_id>", sharing.sound, name="shared_sound"),
    path("operating/", operating.site.urls),
    path("", include("metaphon.web.people.urls")),
    path("", include("metaphon.web.mixes.urls")),
    *(
        path(f"mix/<int:mix_id>/{workspace.name}/", include(f"{workspace.app}.urls"))
        for workspace in WORKSPACES
    ),
]
