"""What people keep for Field: the limits of the deliveries that they make."""

from django.conf import settings
from django.db import models

from metaphon.core.document.delivery_limits import MOST_OBJECTS, DeliveryLimits


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
        """As the core knows limits."""
        return DeliveryLimits(
            title=self.title,
            most_objects=self.most_objects,
            bed=self.bed or None,
            upper_half=self.upper_half,
            extent=self.extent,
            sphere_only=self.sphere_only,
            scenes=self.scenes,
        )
