"""People for the operator:  bin/metaphon user add|list|password|link|operator|remove"""

import io
import sys
from argparse import ArgumentParser
from getpass import getpass
from typing import Any

import segno
from django.conf import settings
from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand, CommandError
from django_otp import user_has_device

from metaphon.core.errors import InputError
from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import record_event
from metaphon.web.mixes.models import Member
from metaphon.web.people.accounts import check_password_text
from metaphon.web.people.credentials import end_what_credentials_began
from metaphon.web.people.forgotten import reset_path
from metaphon.web.people.models import Authenticator, SpareCodes
from metaphon.web.people.second_factor import remove_second_factor


class Command(BaseCommand):
    help = "Let people in, list them, set a password, take them out."

    def add_arguments(self, parser: ArgumentParser) -> None:
        which = parser.add_subparsers(dest="what", required=True)
        for what, told in (
            ("add", "make an account; the password is asked for, or read from standard input"),
            (
                "password",
                "set a password, take a lost second factor away, and end all sessions and tokens",
            ),
            ("link", "make a link by which somebody sets another password within a day"),
            (
                "operator",
                "let somebody look after the installation with a second factor, or no longer",
            ),
            ("remove", "take somebody out; mixes that others take part in stay"),
        ):
            which.add_parser(what, help=told).add_argument("name")
        which.add_parser("list", help="who there is, with the number of mixes and the last sign-in")

    def handle(self, *args: Any, **options: Any) -> None:
        match options["what"]:
            case "list":
                self._list()
            case "add":
                self._add(options["name"])
            case "password":
                self._password(options["name"])
            case "link":
                self._link(options["name"])
            case "operator":
                self._operator(options["name"])
            case _:
                self._remove(options["name"])

    def _list(self) -> None:
        for user in get_user_model().objects.order_by("username"):
            mixes = Member.objects.filter(user=user).count()
            last = f"{user.last_login:%Y-%m-%d}" if user.last_login else "never"
            self.stdout.write(f"{user.get_username():<24} {mixes:>4} mixes, last here {last}")

    def _add(self, name: str) -> None:
        if get_user_model().objects.filter(username__iexact=name).exists():
            raise CommandError(f"{name} is there already.")
        get_user_model().objects.create_user(name, password=_asked())
        self.stdout.write(f"{name} may sign in.")

    def _password(self, name: str) -> None:
        user = _user(name)
        user.set_password(_asked())
        user.save(update_fields=["password"])
        remove_second_factor(user)
        end_what_credentials_began(user)
        record_event(AuditEntry.Kind.PASSWORD_CHANGED, user=user, details="by the operator")
        self.stdout.write(f"The password of {name} is set; a second factor is set up anew.")

    def _link(self, name: str) -> None:
        address = (settings.ADDRESSES or ["http://ADDRESS-OF-THIS-INSTALLATION"])[0]
        self.stdout.write(f"{address}{reset_path(_user(name))}")

    def _operator(self, name: str) -> None:
        user = _user(name)
        user.is_staff = not user.is_staff
        user.save(update_fields=["is_staff"])
        end_what_credentials_began(user)
        what = "operates" if user.is_staff else "operates no longer"
        record_event(AuditEntry.Kind.OPERATOR_SET, user=user, details=what)
        if not user.is_staff:
            self.stdout.write(f"{name} no longer operates this installation.")
        elif user_has_device(user):
            self.stdout.write(f"{name} finds the pages of operators at /operating/.")
        else:
            self._make_second_factor(user)

    def _make_second_factor(self, user: Any) -> None:
        """An operator's first one is made here, where no stolen password leads."""
        device = Authenticator.create_for(user, confirmed=True)
        _, codes = SpareCodes.create_for(user)
        record_event(AuditEntry.Kind.SECOND_FACTOR_ON, user=user, details="by the operator")
        picture = io.StringIO()
        segno.make(device.config_url, error="m").terminal(picture, compact=True)
        self.stdout.write(
            f"{picture.getvalue()}\n{user.get_username()} finds the pages of operators at "
            "/operating/, with a code of this second factor at each sign-in.\n"
            f"For the authenticator: {device.secret_base32}\n"
            f"Spare codes, each of which works once: {' '.join(codes)}"
        )

    def _remove(self, name: str) -> None:
        user = _user(name)
        alone = [
            row.mix.title
            for row in Member.objects.filter(user=user, role=Member.Role.OWNER)
            if not row.mix.members.filter(role=Member.Role.OWNER).exclude(user=user).exists()
        ]
        if alone:
            raise CommandError(
                f"{name} alone owns {', '.join(alone)}; give it another owner or delete it first."
            )
        user.delete()
        self.stdout.write(f"{name} is taken out.")


def _user(name: str) -> Any:
    user = get_user_model().objects.filter(username=name).first()
    if user is None:
        raise CommandError(f"Nobody signs in as {name}; see user list.")
    return user


def _asked() -> str:
    text = getpass("Password: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
    try:
        check_password_text(text)
    except InputError as error:
        raise CommandError(str(error)) from None
    return text
