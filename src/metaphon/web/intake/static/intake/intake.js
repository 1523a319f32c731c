// Recordings are sent in pieces, one after another, each with its own progress; what breaks off is gone on with.

import "./recorder.js";
import "./timeline.js";
import "./vendor/tus.min.js";

const PIECE = 8 * 1024 * 1024;
const AGAIN_MS = [0, 1000, 3000, 5000, 10000, 20000];

async function bringIn(files) {
  const zone = document.querySelector("[data-upload]");
  if (!zone) return;
  const lines = [...files].map((file) => ({ file, line: announce(file.name) }));
  for (const { file, line } of lines) await send(zone.dataset.upload, file, line);
}

function announce(name) {
  const line = document.createElement("div");
  line.className = "said";
  const text = document.createElement("span");
  text.append(
    Object.assign(document.createElement("b"), { textContent: name }),
    " ",
    Object.assign(document.createElement("span"), { className: "quiet", textContent: "waiting" }),
  );
  line.append(text, Object.assign(document.createElement("progress"), { max: 1, value: 0 }));
  document.getElementById("sending").append(line);
  return line;
}

function send(endpoint, file, line) {
  const words = (text) => (line.querySelector(".quiet").textContent = text);
  return new Promise((done) => {
    const end = () => {
      line.remove();
      look();
      done();
    };
    const upload = new window.tus.Upload(file, {
      endpoint,
      chunkSize: PIECE,
      retryDelays: AGAIN_MS,
      removeFingerprintOnSuccess: true,
      headers: { "X-CSRFToken": document.querySelector("meta[name=csrf]").content },
      metadata: { filename: file.name },
      onProgress(sent, whole) {
        line.querySelector("progress").value = sent / whole;
        words("sending");
      },
      onShouldRetry(error) {
        const status = error.originalResponse?.getStatus() ?? 0;
        if (status === 0 || status >= 500) words("the connection broke; going on when it is back");
        return status === 0 || status >= 500 || status === 409;
      },
      onSuccess: end,
      onError(error) {
        const said = error.originalResponse?.getBody();
        line.classList.add("refused");
        line.replaceChildren(
          Object.assign(document.createElement("span"), {
            textContent: said || `${file.name} did not arrive; choose it again to go on.`,
          }),
          Object.assign(document.createElement("button"), {
            className: "button",
            textContent: "Close",
            onclick: () => line.remove(),
          }),
        );
        look();
        done();
      },
    });
    upload.findPreviousUploads().then((earlier) => {
      if (earlier.length) upload.resumeFromPreviousUpload(earlier[0]);
      upload.start();
    });
  });
}

// What has arrived is shown as it is checked; with each that is there the time line is drawn anew.
const look = () => htmx.trigger("#arrivals", "look");
let arrived = null;
const count = () => document.getElementById("arrivals")?.dataset.arrived;
document.addEventListener("htmx:load", ({ target }) => {
  if (target.id !== "arrivals" && !target.querySelector?.("#arrivals")) return;
  if (target.id === "arrivals" && arrived !== null && arrived !== count()) refresh();
  arrived = count();
});
arrived = count();

function refresh() {
  htmx.ajax("GET", location.pathname, {
    target: "#tracks",
    select: "#tracks",
    swap: "outerHTML",
    selectOOB: "#history",
  });
  document.body.dispatchEvent(new Event("mix-edited", { bubbles: true }));
}

document.addEventListener("change", (event) => {
  if (event.target.matches?.("[data-upload] input[type=file]")) {
    bringIn(event.target.files);
    event.target.value = "";
  }
});
for (const kind of ["dragover", "dragleave", "drop"]) {
  document.addEventListener(kind, (event) => {
    const zone = document.querySelector("[data-upload]");
    if (!zone || !event.dataTransfer?.types.includes("Files")) return;
    event.preventDefault();
    zone.classList.toggle("over", kind === "dragover");
    if (kind === "drop") bringIn(event.dataTransfer.files);
  });
}
