"""The deliveries that a mix can be held against: those shipped, and a person's own."""

from dataclasses import dataclass

from django import forms
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.urls import reverse
from django.views.decorators.http import require_POST

from metaphon.core.document.delivery_limits import DELIVERY_LIMITS, MOST_OBJECTS, DeliveryLimits
from metaphon.core.edits.whole_mix import ChooseDelivery
from metaphon.core.errors import InputError, Vanished
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.web.field.models import OwnLimits
from metaphon.web.mixes.editing import carry_out
from metaphon.web.mixes.permissions import can_edit, changes_mix, mix_for
from metaphon.web.shell.posted import number_in


@dataclass(frozen=True)
class Offered:
    """A delivery that can be chosen. `own` is the number of a person's own row."""

    key: str
    limits: DeliveryLimits
    own: int | None = None


def offered(request: HttpRequest, chosen: DeliveryLimits) -> list[Offered]:
    """All that this person can choose: those shipped, their own.

    And the one that the mix has, where it is none of them.
    """
    own = OwnLimits.objects.filter(user=request.user.pk)
    found = [Offered(f"shipped {n}", limits) for n, limits in enumerate(DELIVERY_LIMITS)]
    found += [Offered(f"own {row.pk}", row.limits, row.pk) for row in own]
    return found if any(o.limits == chosen for o in found) else [Offered("", chosen), *found]


class LimitsForm(forms.ModelForm):  # type: ignore[type-arg]  # not generic when run
    """The limits of a delivery as they are typed."""

    most_objects = forms.IntegerField(required=False, min_value=0, max_value=MOST_OBJECTS)
    bed = forms.ChoiceField(required=False, choices=[("", "any"), *((n, n) for n in LAYOUTS)])

    class Meta:
        model = OwnLimits
        fields = ("title", "most_objects", "bed", "upper_half", "extent", "sphere_only", "scenes")


@changes_mix
def choose(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Hold the mix against another delivery."""
    key = request.POST.get("delivery", "")
    known = {one.key: one.limits for one in offered(request, DELIVERY_LIMITS[0])}
    if key not in known:
        raise Vanished("This delivery is no longer there; look again.")
    carry_out(request, mix_id, ChooseDelivery(delivery=known[key]))
    return _back(request, mix_id)


@require_POST
def keep(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Keep the limits of a delivery under a name and choose it, or with `forget` take it away."""
    mix = mix_for(request, mix_id)
    own = OwnLimits.objects.filter(user=request.user.pk)
    if "forget" in request.POST:
        own.filter(pk=number_in(request.POST["forget"]) or 0).delete()
        return _back(request, mix.pk)
    title = request.POST.get("title", "").strip()
    form = LimitsForm(request.POST, instance=own.filter(title=title).first())
    if not form.is_valid():
        if not title:
            raise InputError("A delivery needs a name; type one.")
        raise InputError(f"A delivery holds 0 to {MOST_OBJECTS} objects; type how many at most.")
    form.instance.user_id = int(request.user.pk or 0)
    kept = form.save()
    if can_edit(mix, request.user):
        carry_out(request, mix.pk, ChooseDelivery(delivery=kept.limits))
    return _back(request, mix.pk)


def _back(request: HttpRequest, mix_id: int) -> HttpResponse:
    """To the page as it was asked for."""
    query = request.POST.get("query", "")
    return HttpResponseRedirect(f"{reverse('field:show', args=[mix_id])}?{query}".rstrip("?"))
