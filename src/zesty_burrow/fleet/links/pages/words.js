"use strict";
// The texts of a page in its reader's language, and which of its sections is shown.

const LANGUAGES = { en: "English", de: "Deutsch", es: "Español", fr: "Français" };
const at = (id) => document.getElementById(id);
let texts = {}, words = {}, shown = "";

const say = (name, values = {}) =>
  (words[name] || name).replace(/\{(\w+)\}/g, (whole, part) => (part in values ? values[part] : whole));

function element(name, text, kind) {
  const made = document.createElement(name);
  if (text !== undefined) made.textContent = text;
  if (kind) made.className = kind;
  return made;
}

function reveal(name) {
  at(shown).hidden = true;
  shown = name;
  at(name).hidden = false;
  at("said").textContent = "";
  at(name).querySelector("h1").focus();
  scrollTo(0, 0);
}

function translate(language, title, also) {
  words = { ...texts.en, ...texts[language] };
  document.documentElement.lang = language;
  document.title = say(title);
  for (const one of document.querySelectorAll("[data-text]")) one.textContent = say(one.dataset.text);
  also();
}

// Milliseconds until a question is asked again.
const WAITS = [500, 1000, 2000, 4000, 8000, 16000];

// A server that cannot answer at the moment, or is not reached, is asked again.
async function post(what, document = {}) {
  const request = { method: "POST", body: JSON.stringify(document), credentials: "omit", keepalive: true };
  for (const wait of [...WAITS, 0]) {
    try {
      const answer = await fetch(`${location.pathname}/${what}`, request);
      if ((answer.status !== 429 && answer.status < 500) || !wait) return answer;
    } catch (problem) {
      if (!wait) throw problem;
    }
    await new Promise((done) => setTimeout(done, wait));
  }
}

const random = (count) => [...crypto.getRandomValues(new Uint8Array(count))].map((one) => one.toString(16).padStart(2, "0")).join("");

async function chooseLanguage(title, also) {
  texts = await (await fetch("/a/texts.json", { credentials: "omit" })).json();
  const choice = at("language");
  for (const [code, name] of Object.entries(LANGUAGES)) choice.append(new Option(name, code));
  choice.value = navigator.languages.map((one) => one.slice(0, 2)).find((one) => one in LANGUAGES) || "en";
  choice.addEventListener("change", () => translate(choice.value, title, also));
  translate(choice.value, title, also);
}
