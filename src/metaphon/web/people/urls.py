from django.urls import path

from metaphon.web.people import (
    accounts,
    forgotten,
    invitations,
    second_factor,
    sessions,
    signing_in,
)

urlpatterns = [
    path("sign-in", signing_in.SignIn.as_view(), name="sign_in"),
    path("sign-in/code", signing_in.code, name="sign_in_code"),
    path("sign-out", signing_in.sign_out, name="sign_out"),
    path("sign-in/forgotten", forgotten.forgotten, name="forgotten"),
    path("sign-in/reset/<str:number>/<str:token>", forgotten.reset, name="reset_password"),
    path("account/mail", accounts.set_mail, name="set_mail"),
    path("account", accounts.account, name="account"),
    path("account/name", accounts.rename, name="rename_person"),
    path("account/password", accounts.change_password, name="change_password"),
    path("account/second", second_factor.begin_second, name="begin_second"),
    path("account/second/confirm", second_factor.confirm_second, name="confirm_second"),
    path("account/second/drop", second_factor.drop_second, name="drop_second"),
    path("account/sessions/known", sessions.know_places, name="know_places"),
    path("account/sessions/<int:session_id>/end", sessions.end_session, name="end_session"),
    path("account/remove", accounts.remove, name="remove_person"),
    path("invited/<str:text>", invitations.invited, name="invited"),
    path("offers", invitations.offers, name="offers"),
    path("offers/<int:invitation_id>", invitations.answer_offer, name="answer_offer"),
    path("mix/<int:mix_id>/offer", invitations.offer, name="offer"),
    path("mix/<int:mix_id>/invite", invitations.make, name="invite"),
    path(
        "mix/<int:mix_id>/invite/<int:invitation_id>/revoke",
        invitations.revoke,
        name="revoke_invitation",
    ),
]
