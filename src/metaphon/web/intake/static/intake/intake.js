// Recordings are sent one after another, each with its own progress and its own sentence.

import "./timeline.js";

const esc = (text) =>
  Object.assign(document.createElement("span"), { textContent: text }).innerHTML;

async function bringIn(files) {
  const zone = document.querySelector("[data-upload]");
  if (!zone) return;
  const lines = [...files].map((file) => ({ file, line: announce(file.name) }));
  for (const { file, line } of lines) await send(zone.dataset.upload, file, line);
}

function announce(name) {
  const line = document.createElement("div");
  line.className = "said";
  line.innerHTML = `<span><b>${esc(name)}</b> <span class="quiet">waiting</span></span><progress max="1" value="0"></progress>`;
  document.getElementById("arrivals").append(line);
  return line;
}

function send(url, file, line) {
  const words = (text) => (line.querySelector(".quiet").textContent = text);
  const bar = line.querySelector("progress");
  const form = new FormData();
  form.append("recording", file);
  const request = new XMLHttpRequest();
  request.open("POST", url);
  request.responseType = "json";
  request.setRequestHeader("X-CSRFToken", document.querySelector("meta[name=csrf]").content);
  request.upload.onprogress = (event) => {
    bar.value = event.loaded / event.total;
    words(event.loaded < event.total ? "sending" : "checking every sample");
  };
  return new Promise((done) => {
    request.onloadend = () => {
      const answer = request.response;
      bar.remove();
      if (request.status === 200) {
        words([answer.kind, ...answer.notices].join(". "));
        if (!answer.notices.length) setTimeout(() => line.remove(), 3000);
        refresh();
        document.body.dispatchEvent(new Event("mix-edited", { bubbles: true }));
      } else {
        line.classList.add("refused");
        line.innerHTML = `<span>${esc(answer?.message ?? `${file.name} did not arrive; try again.`)}</span><button class="button">Close</button>`;
        line.querySelector("button").onclick = () => line.remove();
      }
      done();
    };
    request.send(form);
  });
}

const refresh = () =>
  htmx.ajax("GET", location.pathname, {
    target: "#tracks",
    select: "#tracks",
    swap: "outerHTML",
    selectOOB: "#history",
  });

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
