"use strict";
const entries = JSON.parse(document.getElementById("data").textContent);
const rows = document.getElementById("rows");
const search = document.getElementById("search");
const listed = document.getElementById("listed");
const more = document.getElementById("more");
const STEP = 200;
let shown = STEP, by = null, down = false, found = entries;

for (const entry of entries) {
  entry.text = [entry.title, entry.url, entry.file, entry.reason, ...entry.sources].join(" ").toLowerCase();
}

// What can be chosen: everything, what is listed, each section, what is left out, each reason.
function choices() {
  const counts = new Map();
  const count = key => counts.set(key, (counts.get(key) || 0) + 1);
  for (const entry of entries) {
    count(entry.section === null ? "out" : "in");
    count(entry.section === null ? "out:" + entry.reason : "in:" + entry.section);
  }
  const option = (value, label, number) => listed.add(new Option(`${label} (${number.toLocaleString("en")})`, value));
  option("", "everything", entries.length);
  for (const [side, label] of [["in", "yes"], ["out", "no"]]) {
    if (counts.has(side)) option(side, label, counts.get(side));
    for (const key of [...counts.keys()].filter(key => key.startsWith(side + ":")).sort()) {
      option(key, `${label}: ${key.slice(side.length + 1)}`, counts.get(key));
    }
  }
}

function wanted(entry, words) {
  const [side, name] = listed.value.split(":");
  const is_in = entry.section !== null;
  if (side && is_in !== (side === "in")) return false;
  if (name && name !== (is_in ? entry.section : entry.reason)) return false;
  return words.every(word => entry.text.includes(word));
}

function choose() {
  const words = search.value.toLowerCase().split(/\s+/).filter(word => word);
  found = entries.filter(entry => wanted(entry, words));
  if (by) {
    const value = entry => by === "title" ? (entry.title || entry.url).toLowerCase()
      : by === "section" ? entry.section || "~" + entry.reason : entry[by] === null ? "" : entry[by];
    found.sort((one, other) => value(one) < value(other) ? -1 : value(one) > value(other) ? 1 : 0);
    if (down) found.reverse();
  }
  shown = STEP;
  draw();
}

function element(name, text, kind) {
  const made = document.createElement(name);
  if (text !== undefined) made.textContent = text;
  if (kind) made.className = kind;
  return made;
}

function row(entry) {
  const made = element("tr");
  const picture = element("td", undefined, "picture");
  if (entry.picture) {
    const image = element("img");
    Object.assign(image, { src: entry.picture, alt: "", loading: "lazy" });
    image.onerror = () => image.remove();
    picture.append(image);
  }
  const what = element("td");
  const link = (text, kind) => Object.assign(element("a", text, kind), { href: entry.url });
  const address = element("div");
  address.append(link(entry.url, "url"));
  what.append(link(entry.title || entry.url), address, element("div", entry.sources.join(", "), "sources"));
  const status = entry.section === null ? element("td", "left out: " + entry.why, "out") : element("td", entry.section);
  const number = value => element("td", value ? value.toLocaleString("en") : "–", "number");
  const file = element("td", entry.file ? undefined : "–");
  if (entry.file) file.append(Object.assign(element("a", entry.file), { href: address_of(entry.file) }));
  made.append(picture, what, status, element("td", (entry.lastmod || "–").slice(0, 10)), number(entry.images),
    number(entry.videos), file);
  return made;
}

const address_of = file => document.body.dataset.files + file;

// Each sitemap file leads to its live address, and opens to its entries.
function files() {
  const counts = new Map();
  for (const entry of entries) if (entry.file) counts.set(entry.file, (counts.get(entry.file) || 0) + 1);
  for (const [file, count] of [...counts].sort()) {
    const item = element("li");
    const show = element("button", count === 1 ? "show its entry" : `show its ${count.toLocaleString("en")} entries`);
    show.type = "button";
    show.onclick = () => { search.value = file; search.oninput(); scrollTo(0, 0); };
    item.append(Object.assign(element("a", file), { href: address_of(file) }), " ", show);
    document.getElementById("files").append(item);
  }
}

function draw() {
  rows.replaceChildren(...found.slice(0, shown).map(row));
  more.hidden = shown >= found.length;
  const all = found.length.toLocaleString("en");
  document.getElementById("count").textContent = `${all} of ${entries.length.toLocaleString("en")}`;
}

for (const button of document.querySelectorAll("th button")) {
  button.onclick = () => {
    down = by === button.dataset.by ? !down : ["lastmod", "images", "videos"].includes(button.dataset.by);
    by = button.dataset.by;
    for (const head of document.querySelectorAll("th")) head.setAttribute("aria-sort", "none");
    button.parentElement.setAttribute("aria-sort", down ? "descending" : "ascending");
    choose();
  };
}
document.getElementById("filters").onsubmit = event => event.preventDefault();
search.oninput = () => {
  history.replaceState(null, "", "#" + encodeURIComponent(search.value));
  choose();
};
listed.onchange = choose;
more.onclick = () => { shown += STEP; draw(); };
// A search can be kept as a bookmark: all.html#boiler
search.value = decodeURIComponent(location.hash.slice(1));
choices();
files();
choose();
