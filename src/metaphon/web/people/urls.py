from django.urls import path

from metaphon.web.people import accounts, forgotten, invitations, signing_in

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
    path("account/second", accounts.begin_second, name="begin_second"),
    path("account/second/confirm", accounts.confirm_second, name="confirm_second"),
    path("account/second/drop", accounts.drop_second, name="drop_second"),
    path("account/remove", accounts.remove, name="remove_person"),
    path("invited/<str:text>", invitations.invited, name="invited"),
    path("mix/<int:mix_id>/invite", invitations.make, name="invite"),
    path(
        "mix/<int:mix_id>/invite/<int:invitation_id>/revoke",
        invitations.revoke,
        name="revoke_invitation",
    ),
]
