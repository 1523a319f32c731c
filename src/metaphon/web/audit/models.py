"""The entries of the audit trail. They outlive the people and mixes that they are about."""

from django.db import models


class AuditEntry(models.Model):
    """One thing that somebody did with rights, credentials or files; never what a secret is."""

    class Kind(models.TextChoices):
        SIGNED_IN = "signed_in", "Signed in"
        SIGN_IN_REFUSED = "sign_in_refused", "Sign-in refused"
        SIGNED_OUT = "signed_out", "Signed out"
        SESSION_ENDED = "session_ended", "Ended a session"
        PASSWORD_CHANGED = "password_changed", "Changed the password"
        SECOND_FACTOR_ON = "second_factor_on", "Turned the second factor on"
        SECOND_FACTOR_OFF = "second_factor_off", "Turned the second factor off"
        TOKEN_MADE = "token_made", "Made an API token"
        TOKEN_REMOVED = "token_removed", "Removed an API token"
        MEMBER_SET = "member_set", "Set a member's role"
        MEMBER_REMOVED = "member_removed", "Removed a member"
        INVITATION_MADE = "invitation_made", "Made an invitation"
        INVITATION_USED = "invitation_used", "Used an invitation"
        INVITATION_REVOKED = "invitation_revoked", "Revoked an invitation"
        LINK_MADE = "link_made", "Made a link to listen"
        LINK_REVOKED = "link_revoked", "Revoked a link to listen"
        LINK_OPENED = "link_opened", "Opened a link to listen"
        HANDED_OVER = "handed_over", "Handed over"
        DOWNLOADED = "downloaded", "Downloaded"
        MIX_DELETED = "mix_deleted", "Deleted the mix"
        OPERATOR_SET = "operator_set", "Changed who operates"

    at = models.DateTimeField(auto_now_add=True)
    kind = models.CharField(max_length=24, choices=Kind)
    # numbers and names instead of keys to other rows, so that an entry stays when those go
    user_id = models.BigIntegerField(null=True)
    username = models.CharField(max_length=150, blank=True)
    mix_id = models.BigIntegerField(null=True)
    mix_title = models.CharField(max_length=120, blank=True)
    address = models.GenericIPAddressField(null=True)
    details = models.CharField(max_length=300, blank=True)

    class Meta:
        verbose_name_plural = "audit entries"
        ordering = ["-pk"]
        indexes = [
            models.Index(fields=["mix_id", "-id"], name="audit_of_mix"),
            models.Index(fields=["user_id", "-id"], name="audit_of_user"),
        ]
