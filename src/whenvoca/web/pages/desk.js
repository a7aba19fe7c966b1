// Shows answers as they come, and sends without loading the page anew. Without it the page works all the same.
"use strict";
const list = document.getElementById("said");
const form = document.getElementById("ask");
const field = document.getElementById("text");

const show = (said) => {
  document.getElementById("empty")?.remove();
  const item = document.createElement("li");
  if (said.is_ours) item.className = "ours";
  const who = document.createElement("p");
  who.className = "who";
  const when = document.createElement("span");
  when.className = "when";
  when.textContent = said.at;
  who.append(`${said.who} `, when);
  const words = document.createElement("p");
  words.className = "words";
  words.textContent = said.text;
  item.append(who, words);
  list.append(item);
  form.scrollIntoView({ block: "nearest" });
};

const source = new EventSource(`${list.dataset.live}?after=${list.dataset.count}`);
source.addEventListener("said", (event) => show(JSON.parse(event.data)));

form.addEventListener("submit", async (event) => {
  event.preventDefault();
  const body = new URLSearchParams(new FormData(form));
  try {
    const answer = await fetch(form.action, { method: "POST", body, headers: { accept: "application/json" } });
    if (!answer.ok) throw new Error(answer.statusText);
    field.value = "";
    form.elements.page.value = crypto.randomUUID ? crypto.randomUUID() : `${Date.now()}${Math.random()}`;
    field.focus();
  } catch {
    form.submit();
  }
});

field.addEventListener("keydown", (event) => {
  if (event.key === "Enter" && !event.shiftKey && !event.isComposing) {
    event.preventDefault();
    form.requestSubmit();
  }
});
