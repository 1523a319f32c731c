"""What an operator looks after: people, members, renders, and what links and scripts may still do.

Django's own administration. It opens for staff who sign in with a second factor and for nobody else
(`bin/metaphon user operator NAME`); what is told here of a mix is its title, never its content.
"""

from typing import Any

from django.conf import settings
from django.contrib import admin
from django.contrib.auth import get_user_model
from django.core.exceptions import PermissionDenied
from django.db.models import Model, QuerySet
from django.http import HttpRequest, HttpResponse

from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import entries_as_csv, record_event
from metaphon.web.jobs.models import Render
from metaphon.web.mixes.membership import set_role
from metaphon.web.mixes.models import AccessToken, EventAddress, Member, Mix
from metaphon.web.people.models import Invitation, SessionRecord
from metaphon.web.people.sessions import end_sessions
from metaphon.web.together.models import Share

_CLOSED = "This is for operators who sign in with a second factor."


class Operating(admin.AdminSite):
    """The pages of operators."""

    site_header = site_title = "Metaphon, operating"
    index_title = "What is here"
    final_catch_all_view = False

    def has_permission(self, request: HttpRequest) -> bool:
        """Staff who gave a code of their second factor when this session began."""
        user: Any = request.user
        return bool(user.is_active and user.is_staff and user.is_verified())

    def get_urls(self) -> list[Any]:
        """All of them send who is not signed in to where everybody signs in."""
        found = super().get_urls()
        for one in found:
            view: Any = one.callback
            if hasattr(view, "login_url"):
                view.login_url = settings.LOGIN_URL
        return found

    def admin_view(self, view: Any, cacheable: bool = False) -> Any:
        """A view that refuses all others in one sentence instead of asking them to sign in."""
        own = super().admin_view(view, cacheable)

        def looked_at(request: HttpRequest, *args: Any, **named: Any) -> Any:
            if not self.has_permission(request):
                raise PermissionDenied(_CLOSED)
            return own(request, *args, **named)

        return looked_at

    def login(self, request: HttpRequest, extra_context: Any = None) -> HttpResponse:
        """There is one place to sign in, and this is not it."""
        raise PermissionDenied(_CLOSED)


class _Looked(admin.ModelAdmin):  # type: ignore[type-arg]
    """Rows to be looked at."""

    list_per_page = 50

    def has_add_permission(self, request: HttpRequest) -> bool:
        """They come about by what people do."""
        return False

    def has_change_permission(self, request: HttpRequest, obj: Model | None = None) -> bool:
        """And so do their values."""
        return False

    def has_view_permission(self, request: HttpRequest, obj: Model | None = None) -> bool:
        """Whoever is let in looks at all."""
        return True

    def has_delete_permission(self, request: HttpRequest, obj: Model | None = None) -> bool:
        """Only where that takes a leave back."""
        return False

    def has_module_permission(self, request: HttpRequest) -> bool:
        """As the whole site."""
        return True


class _TakenBack(_Looked):
    """Rows by which somebody is let in, which may be taken away."""

    def has_delete_permission(self, request: HttpRequest, obj: Model | None = None) -> bool:
        """Taking it away takes the leave back."""
        return True


class People(_Looked):
    """Who may sign in, and who operates. They are made and taken out by `bin/metaphon user`."""

    list_display = ("username", "first_name", "last_login", "is_active", "is_staff")
    list_filter = ("is_active", "is_staff")
    search_fields = ("username", "first_name")
    fields = ("username", "first_name", "last_login", "date_joined", "is_active", "is_staff")
    readonly_fields = ("username", "first_name", "last_login", "date_joined")

    def has_change_permission(self, request: HttpRequest, obj: Model | None = None) -> bool:
        """Others, not oneself: nobody locks the last operator out by accident."""
        return obj is None or obj.pk != request.user.pk

    def save_model(self, request: HttpRequest, obj: Any, form: Any, change: bool) -> None:
        """Keep what was changed, and write it down."""
        super().save_model(request, obj, form, change)
        told = ", ".join(f"{name}: {getattr(obj, name)}" for name in form.changed_data)
        record_event(AuditEntry.Kind.OPERATOR_SET, details=f"{obj.get_username()}, {told}")


class Members(_Looked):
    """Who takes part in what; a mix whose owner has gone can be given another."""

    list_display = ("mix", "user", "role")
    list_filter = ("role",)
    search_fields = ("mix__title", "user__username")
    autocomplete_fields = ("mix", "user")
    fields = ("mix", "user", "role")

    def has_add_permission(self, request: HttpRequest) -> bool:
        """As an owner does."""
        return True

    def has_change_permission(self, request: HttpRequest, obj: Model | None = None) -> bool:
        """As an owner does."""
        return True

    def save_model(self, request: HttpRequest, obj: Any, form: Any, change: bool) -> None:
        """As an owner does, so that the mix keeps one."""
        set_role(obj.mix, obj.user, obj.role)

    def get_readonly_fields(self, request: HttpRequest, obj: Model | None = None) -> Any:
        """Only the role of somebody who is a member changes."""
        return ("mix", "user") if obj else ()


class Mixes(_Looked):
    """All mixes by their titles."""

    list_display = ("title", "created_at", "revision", "members_told")
    search_fields = ("title",)
    fields = ("title", "created_at", "revision", "sample_rate_hz", "members_told")

    @admin.display(description="members")
    def members_told(self, mix: Mix) -> str:
        """Who takes part, and as what."""
        rows = mix.members.select_related("user")
        return ", ".join(f"{row.user.get_username()} ({row.role})" for row in rows)


class Renders(_Looked):
    """What workers have done and do; an open one can be stopped."""

    list_display = ("mix", "user", "status", "done", "speed", "created_at")
    list_filter = ("status",)
    search_fields = ("mix__title", "user__username")
    fields = ("mix", "user", "revision", "status", "progress", "message", "created_at")
    actions = ("stop",)

    @admin.display(description="done, %")
    def done(self, row: Render) -> str:
        """How far it is."""
        return f"{100.0 * row.progress:.0f}"

    @admin.display(description="x real time")
    def speed(self, row: Render) -> str:
        """How fast it is or was."""
        return f"{row.speed_x_realtime:.1f}" if row.speed_x_realtime else "–"

    @admin.action(description="Stop those that are open")
    def stop(self, request: HttpRequest, rows: QuerySet[Render]) -> None:
        """Take them out of the queue, or have their workers leave off."""
        open_ones = [row for row in rows if row.is_open]
        for row in open_ones:
            row.ask_to_stop()
        self.message_user(request, f"Stopped: {len(open_ones)}.")


class Shares(_TakenBack):
    """Links to listen by."""

    list_display = ("mix", "name", "made_by", "live", "opened", "last_at", "ends_at")
    fields = list_display


class Invitations(_TakenBack):
    """Links by which somebody becomes a member."""

    list_display = ("mix", "role", "made_by", "used_by", "ends_at")
    fields = list_display


class Tokens(_TakenBack):
    """What scripts sign in by."""

    list_display = ("name", "user", "created_at", "last_at")
    fields = list_display


class Addresses(_TakenBack):
    """Where people are told of what happens."""

    list_display = ("url", "user", "told_at", "trouble")
    fields = list_display


class Sessions(_TakenBack):
    """Who is signed in from where; taking one away ends it."""

    list_display = ("user", "address", "browser", "began_at", "last_at", "is_new_place")
    search_fields = ("user__username",)
    fields = list_display

    def delete_model(self, request: HttpRequest, obj: SessionRecord) -> None:
        """End the session."""
        end_sessions(SessionRecord.objects.filter(pk=obj.pk))

    def delete_queryset(self, request: HttpRequest, queryset: QuerySet[SessionRecord]) -> None:
        """End several."""
        end_sessions(queryset)


class AuditTrail(_Looked):
    """Who let whom in, signed in, handed over and downloaded."""

    list_display = ("at", "username", "kind", "mix_title", "address", "details")
    list_filter = ("kind",)
    search_fields = ("username", "mix_title", "address", "details")
    date_hierarchy = "at"
    fields = list_display
    actions = ("export",)

    @admin.action(description="Export as CSV")
    def export(self, request: HttpRequest, rows: QuerySet[AuditEntry]) -> HttpResponse:
        """Give those that are chosen as a table."""
        response = HttpResponse(entries_as_csv(rows.iterator()), content_type="text/csv")
        response["Content-Disposition"] = 'attachment; filename="audit-trail.csv"'
        return response


site = Operating(name="admin")
for model, shown in (
    (get_user_model(), People),
    (Member, Members),
    (Mix, Mixes),
    (Render, Renders),
    (Share, Shares),
    (Invitation, Invitations),
    (AccessToken, Tokens),
    (EventAddress, Addresses),
    (SessionRecord, Sessions),
    (AuditEntry, AuditTrail),
):
    site.register(model, shown)
