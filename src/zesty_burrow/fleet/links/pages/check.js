"use strict";
// Observes what the outside sees of this device, before and after the tunnel is switched on, and shows what comes of it.
// The judgement is the server's: the same as everywhere else.

const NAMES = 6, PATIENCE = 6000, GATHERING = 4000;
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

// The resolver of this device asks the observatory for these names; whether anything answers does not matter.
async function lookUp(zone) {
  const token = random(12);
  const urls = [...Array(NAMES).keys()].map((number) => `https://n${number + 1}-${random(4)}.${token}.${zone}/`);
  const options = { mode: "no-cors", credentials: "omit", signal: AbortSignal.timeout(PATIENCE) };
  await Promise.allSettled(urls.map((url) => fetch(url, options)));
  return ask(`https://${about.observatory}/v1/names/${token}`);
}

// The addresses that a real-time connection reveals (RFC 8825, RFC 8489).
async function realTime(port) {
  if (!window.RTCPeerConnection) return [];
  const connection = new RTCPeerConnection({ iceServers: [{ urls: `stun:${about.observatory}:${port}` }] });
  const found = new Set();
  connection.addEventListener("icecandidate", ({ candidate }) => {
    // Some browsers put brackets around an IPv6 address, as in a URL.
    const address = candidate?.address?.replace(/^\[|\]$/g, "");
    if (address && !address.endsWith(".local")) found.add(address);
  });
  connection.createDataChannel("check");
  await connection.setLocalDescription(await connection.createOffer());
  await new Promise((done) => {
    connection.addEventListener("icegatheringstatechange", () => { if (connection.iceGatheringState === "complete") done(); });
    setTimeout(done, GATHERING);
  });
  connection.close();
  return Promise.all([...found].slice(0, 16).map(async (one) =>
    (await ask(`https://${about.observatory}/v1/address/${one}`)) || { address: one }));
}

async function observe() {
  const told = await ask(`https://${about.observatory}/v1`);
  if (!told) return { ipv4: null, ipv6: null, real_time: [], names: {}, asked: 0 };
  const family = (host) => (host ? ask(`https://${host}/v1/address`) : null);
  const [ipv4, ipv6, names, revealed] = await Promise.all(
    [family(told.ipv4_host), family(told.ipv6_host), lookUp(told.probe_zone), realTime(told.stun_port)]);
  return { ipv4, ipv6, real_time: revealed, names: names || {}, asked: NAMES };
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
