"use strict";
// Decrypts what an administrator has sent, shows it step by step, copies, and tells how far its reader has got.
// Nothing is stored in the browser, and nothing but these steps is sent anywhere.

const ORDER = ["agree", "certificate", "settings", "credentials"];
let content = null;
// The server gives it once: to this page again, for a moment, where an answer was lost on its way.
const opener = random(16);
shown = "start";

// The key is taken out of the address bar, and so out of the history, before anything else is done.
const key = location.hash.slice(1);
history.replaceState(null, "", location.pathname);

const octets = (text) => Uint8Array.from(atob(text.replace(/-/g, "+").replace(/_/g, "/")), (letter) => letter.charCodeAt(0));
function show(name) {
  reveal(name);
  at("steps").hidden = !ORDER.includes(name);
  for (const one of at("steps").children) {
    one.classList.toggle("past", ORDER.indexOf(one.dataset.step) < ORDER.indexOf(name));
    if (one.dataset.step === name) one.setAttribute("aria-current", "step");
    else one.removeAttribute("aria-current");
  }
}

function problem(name, values) {
  at("problem-words").textContent = say(name, values);
  show("problem");
}

// One after the other, each until it was heard.
let telling = Promise.resolve();
function tell(step) {
  telling = telling.then(() => post("step", { step })).catch(() => { /* The administrator asks the reader. */ });
}

// The token follows from the key: one that was cut or changed on its way opens nothing, and spoils nothing.
async function isWhole() {
  try {
    const secret = octets(key), label = new TextEncoder().encode("zesty-burrow link 1");
    const sum = new Uint8Array(await crypto.subtle.digest("SHA-256", new Uint8Array([...label, ...secret])));
    return secret.length === 32 && octets(location.pathname.split("/")[2]).every((one, at) => one === sum[at]);
  } catch {
    return false;
  }
}

async function open() {
  at("open").disabled = true;
  let answer, told;
  try {
    answer = await post("open", { opener });
    told = await answer.json();
  } catch {
    at("open").disabled = false;
    at("said").textContent = say("no-network");
    return;
  }
  if (answer.status === 429 || answer.status >= 500) {
    at("open").disabled = false;
    at("said").textContent = say("no-network");
    return;
  }
  if (!answer.ok) return problem(told.at ? "problem-opened" : "problem-unknown", { at: told.at ? new Date(told.at).toLocaleString() : "" });
  try {
    const sealed = octets(told.sealed);
    const secret = await crypto.subtle.importKey("raw", octets(key), "AES-GCM", false, ["decrypt"]);
    const token = new TextEncoder().encode(location.pathname.split("/")[2]);
    const plain = await crypto.subtle.decrypt(
      { name: "AES-GCM", iv: sealed.slice(0, 12), additionalData: token }, secret, sealed.slice(12));
    content = JSON.parse(new TextDecoder().decode(plain));
  } catch {
    return problem("problem-key");
  }
  tell("opened");
  if (!content.check && told.check) content.check = location.pathname.replace("/o/", "/c/");
  fill();
  show("agree");
}

// A long name is broken behind its dots, and nothing is added to it.
function write(where, text) {
  where.replaceChildren(...text.split(/(?<=[.@])/).flatMap((part) => [part, element("wbr")]));
}

function fill() {
  at("whose").textContent = say("whose", content);
  const networks = content.networks.join(", ");
  at("agree-traffic").textContent = say(content.everything ? "agree-all" : "agree-some", { ...content, networks });
  const trusted = at("trusted"), files = at("files");
  trusted.replaceChildren();
  files.replaceChildren();
  for (const one of content.certificates) {
    const card = element("li");
    card.append(element("strong", one.name), element("small", say("until", one)));
    const more = element("details");
    more.append(element("summary", say("fingerprint")), element("code", one.fingerprint));
    card.append(more);
    trusted.append(card);
    files.append(file(one));
  }
  if (content.identity) files.append(file(content.identity));
  const fields = at("fields"), secrets = at("secrets");
  fields.replaceChildren();
  secrets.replaceChildren();
  for (const one of content.fields) (one.secret ? secrets : fields).append(field(one));
  at("check-words").hidden = at("check-link").hidden = !content.check;
  if (content.check) at("check-link").firstElementChild.href = content.check;
}

function file(one) {
  const card = element("li");
  const link = element("a", say("certificate-open"), "button");
  // RFC 2585 §4: by this type a device knows that it is a certificate to be installed.
  link.href = URL.createObjectURL(new Blob([octets(one.der)], { type: one.type || "application/pkix-cert" }));
  link.download = one.file || `${one.name.replace(/[^\w.-]+/g, "-")}.cer`;
  card.append(element("strong", one.name), element("small", say("until", one)), link);
  return card;
}

function field(one) {
  const row = element("li");
  const label = element("span", say(`field-${one.key}`), "label");
  const value = element("span", undefined, "value");
  write(value, one.secret ? "•".repeat(8) : one.value);
  const buttons = element("span", undefined, "buttons");
  if (one.secret) {
    const reveal = element("button", say("show"));
    reveal.addEventListener("click", () => {
      const hidden = value.textContent !== one.value;
      write(value, hidden ? one.value : "•".repeat(8));
      reveal.textContent = say(hidden ? "hide" : "show");
    });
    buttons.append(reveal);
  }
  const copy = element("button", say("copy"));
  copy.setAttribute("aria-label", say("copy-what", { what: say(`field-${one.key}`) }));
  copy.addEventListener("click", async () => {
    try {
      await navigator.clipboard.writeText(one.value);
      for (const other of document.querySelectorAll(".copied")) other.classList.remove("copied");
      row.classList.add("copied");
      at("said").textContent = say("copied", { what: say(`field-${one.key}`) });
    } catch {
      write(value, one.value);
      getSelection().selectAllChildren(value);
      at("said").textContent = say("not-copied");
    }
  });
  buttons.append(copy);
  row.append(label, value, buttons);
  return row;
}

async function begin() {
  await chooseLanguage("start-title", () => { if (content) fill(); });
  if (!await isWhole()) return problem("problem-key");
  at("open").addEventListener("click", open);
  at("open").disabled = false;
  at("yes").addEventListener("click", () => { tell("agreed"); show(at("files").children.length ? "certificate" : "settings"); });
  at("no").addEventListener("click", () => { tell("declined"); content = null; show("declined"); });
  for (const one of document.querySelectorAll(".back")) one.addEventListener("click", () => show(one.dataset.next));
  for (const one of document.querySelectorAll(".next")) {
    one.addEventListener("click", () => { tell(shown === "credentials" ? "done" : shown); show(one.dataset.next); });
  }
}

begin();
