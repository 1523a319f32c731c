// A remark by a link is of the place that was last heard, until another is typed.

const form = document.getElementById("guest-remark");
const at = form?.elements.start_s;
let typedByHand = Boolean(at?.value);

function pin(seconds) {
  if (!typedByHand) at.value = seconds.toFixed(1);
}
if (at) {
  at.addEventListener("input", () => (typedByHand = Boolean(at.value)));
  for (const audio of document.querySelectorAll("audio"))
    audio.addEventListener("timeupdate", () => pin(audio.currentTime + +audio.dataset.begins));
  const along = document.querySelector("#listen .along");
  if (along) {
    const { player } = await import("../listen/player.js");
    player.addEventListener("transport", () => pin(player.position / player.rate));
  }
}
