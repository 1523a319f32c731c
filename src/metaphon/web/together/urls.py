from django.urls import path

from metaphon.web.together import decisions, remarks, sharing

app_name = "together"
urlpatterns = [
    path("", remarks.show, name="show"),
    path("add", remarks.add, name="add"),
    path("markers", remarks.as_markers, name="as_markers"),
    path("remarks.csv", remarks.listed, name="csv"),
    path("handover/<int:render_id>", decisions.decide, name="decide"),
    path("shares", sharing.show, name="shares"),
    path("shares/new", sharing.make, name="share"),
    path("shares/<int:number>/revoke", sharing.revoke, name="revoke_share"),
    path("<int:number>/answer", remarks.answer, name="answer"),
    path("<int:number>/resolve", remarks.resolve, name="resolve"),
    path("<int:number>/remove", remarks.remove, name="remove"),
]
