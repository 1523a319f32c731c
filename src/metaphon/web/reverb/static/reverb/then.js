// A space that has just been made is opened: data-then says where, once the edit of the control is kept.

document.addEventListener("click", ({ target }) => {
  const button = target.closest?.(".reverb [data-then]");
  if (button) button.dataset.pressed = "true";
});
document.addEventListener("htmx:afterRequest", ({ detail }) => {
  const button = document.querySelector(".reverb [data-then][data-pressed]");
  if (!button || detail.requestConfig?.verb !== "post") return;
  delete button.dataset.pressed;
  if (!detail.successful) return;
  // a link among the views, which are opened without leaving the page: what plays plays on
  const link = Object.assign(document.createElement("a"), { href: button.dataset.then });
  document.getElementById("views").append(link);
  htmx.process(link);
  link.click();
  link.remove();
});
