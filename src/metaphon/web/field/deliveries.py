"""The deliveries that a mix can be held against: those shipped, and a person's own."""

from urllib.parse import urlencode

from django import forms
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.views.decorators.http import require_POST

from metaphon.core.document.delivery_limits import DELIVERY_LIMITS, DeliveryLimits
from metaphon.core.errors import InputError
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.web.field.models import MOST_OBJECTS, OwnLimits
from metaphon.web.mixes.permissions import mix_for


def deliveries(request: HttpRequest) -> dict[str, DeliveryLimits]:
    """All that this person can choose, by name: first those shipped."""
    own = OwnLimits.objects.filter(user=request.user.pk)
    return DELIVERY_LIMITS | {row.limits.name: row.limits for row in own}


class LimitsForm(forms.ModelForm):  # type: ignore[type-arg]  # not generic when run
    """The limits of a delivery as they are typed."""

    most_objects = forms.IntegerField(required=False, min_value=0, max_value=MOST_OBJECTS)
    bed = forms.ChoiceField(required=False, choices=[("", "any"), *((n, n) for n in LAYOUTS)])

    class Meta:
        model = OwnLimits
        fields = ("title", "most_objects", "bed", "upper_half", "extent", "sphere_only", "scenes")


@require_POST
def keep(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Keep the limits of a delivery under a name, or with `forget` take a delivery away."""
    mix = mix_for(request, mix_id)
    own = OwnLimits.objects.filter(user=request.user.pk)
    if "forget" in request.POST:
        number = request.POST["forget"].removeprefix("own ")
        own.filter(pk=int(number) if number.isdigit() else 0).delete()
        return redirect("field:show", mix.pk)
    title = request.POST.get("title", "").strip()
    form = LimitsForm(request.POST, instance=own.filter(title=title).first())
    if not form.is_valid():
        if not title:
            raise InputError("A delivery needs a name; type one.")
        raise InputError(f"A delivery holds 0 to {MOST_OBJECTS} objects; type how many at most.")
    form.instance.user_id = int(request.user.pk or 0)
    kept = form.save()
    return redirect(
        f"{reverse('field:show', args=[mix.pk])}?{urlencode({'delivery': f'own {kept.pk}'})}"
    )
