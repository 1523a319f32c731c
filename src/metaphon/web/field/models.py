"""What people keep for Field: the limits of the deliveries that they make."""

from django.conf import settings
from django.db import models

from metaphon.core.document.delivery_limits import DeliveryLimits

MOST_OBJECTS = 10000


class OwnLimits(models.Model):
    """The limits of a kind of delivery, by a person's own name for it."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="own_limits")
    title = models.CharField(max_length=80)
    most_objects = models.PositiveIntegerField(null=True, blank=True)
    bed = models.CharField(max_length=40, blank=True)
    upper_half = models.BooleanField(default=False)
    extent = models.BooleanField(default=False)
    sphere_only = models.BooleanField(default=False)
    scenes = models.BooleanField(default=False)

    class Meta:
        ordering = ["title"]
        constraints = [
            models.UniqueConstraint(fields=["user", "title"], name="own_limits_once"),
            models.CheckConstraint(
                condition=models.Q(most_objects__isnull=True)
                | models.Q(most_objects__lte=MOST_OBJECTS),
                name="own_limits_most_objects",
            ),
        ]

    @property
    def limits(self) -> DeliveryLimits:
        """As the core knows limits; their name leads back to this row."""
        return DeliveryLimits(
            f"own {self.pk}",
            self.title,
            self.most_objects,
            self.bed or None,
            self.upper_half,
            self.extent,
            self.sphere_only,
            self.scenes,
        )
