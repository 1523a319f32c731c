"""Mail to somebody who has given an address, where the installation sends any."""

import logging
from smtplib import SMTPException
from typing import Any

from django.conf import settings
from django.core.mail import send_mail

log = logging.getLogger(__name__)


def send_to(user: Any, subject: str, text: str) -> None:
    """Send mail to a person who has an address; what fails is a line in the log."""
    if not user.email or not settings.EMAIL_HOST:
        return
    try:
        send_mail(subject, text, None, [user.email])
    except (SMTPException, OSError):
        log.exception("mail to user %s", user.pk)
