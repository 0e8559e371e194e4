"use strict";
// Observes what the outside sees of this device, before and after the tunnel is switched on, and shows what comes of it.
// The judgement is the server's: the same as everywhere else.

const PATIENCE = 6000;
const seen = {};
let about = null, verdict = null;
shown = "off";

async function ask(url) {
  try {
    const options = { credentials: "omit", cache: "no-store", signal: AbortSignal.timeout(PATIENCE) };
    return await (await fetch(url, options)).json();
  } catch {
    return null;
  }
}

// Each check of the verification has its part in checks.js.
async function observe() {
  const told = await ask(`https://${about.observatory}/v1`);
  if (!told) return {};
  const parts = await Promise.all(Object.values(checks).map((check) => check(told).catch(() => ({}))));
  return Object.assign({}, ...parts);
}

async function look(button) {
  for (const one of document.querySelectorAll(".look")) one.disabled = true;
  at("said").textContent = say("check-looking");
  seen[button.dataset.when] = await observe();
  for (const one of document.querySelectorAll(".look")) one.disabled = false;
  if (button.dataset.when === "before") return reveal("on");
  const answer = await post("observed", seen).catch(() => null);
  if (!answer?.ok) return reveal("problem");
  verdict = await answer.json();
  fill();
  reveal("verdict");
}

function fill() {
  at("whose").textContent = about ? about.device : "";
  if (!verdict) return;
  at("verdict-title").textContent = say(`verdict-${verdict.verdict}`);
  at("verdict-words").textContent = say(`verdict-${verdict.verdict}-words`, about);
  at("verdict").className = verdict.verdict;
  const reasons = at("reasons");
  reasons.replaceChildren();
  for (const one of verdict.findings.filter((entry) => entry.severity !== "note")) {
    const card = element("li");
    const known = words[`finding-${one.code}`];
    card.append(element("strong", known || one.title), element("small", one.detail));
    reasons.append(card);
  }
  at("exits").textContent = verdict.exits.length ? `${say("check-seen")} ${verdict.exits.join("; ")}` : "";
}

async function begin() {
  await chooseLanguage("check-title", fill);
  const answer = await post("begin").catch(() => null);
  if (!answer?.ok) return reveal("problem");
  about = await answer.json();
  fill();
  for (const one of document.querySelectorAll(".look")) {
    one.addEventListener("click", () => look(one));
    one.disabled = false;
  }
  at("skip").addEventListener("click", () => reveal("on"));
  at("again").addEventListener("click", () => reveal("off"));
}

begin();
