"use strict";
const SIGNS = { fine: "✓", warned: "!", late: "✕", stopped: "■" };
const KEPT = 120, SILENT = 5000, WIDE = 600;
const streams = new Map();
let heardAt = 0, over = "", quiet = true;

const find = (id) => document.getElementById(id);
const number = (value) => Math.round(value).toLocaleString("en-US");
const clock = (seconds) => {
  const whole = Math.floor(seconds), two = (n) => String(n).padStart(2, "0");
  return `${Math.floor(whole / 3600)}:${two(Math.floor(whole / 60) % 60)}:${two(whole % 60)}`;
};

function shape(svg, kind, points, close) {
  const path = document.createElementNS("http://www.w3.org/2000/svg", "path");
  path.setAttribute("d", "M" + points.map(([x, y]) => `${x.toFixed(1)} ${y.toFixed(1)}`).join("L") +
    (close ? "Z" : ""));
  path.setAttribute("class", kind);
  svg.append(path);
}

function drawRates(svg, past, now) {
  const most = 1.1 * Math.max(1, now.planned_kbps || 0,
    ...past.flatMap((one) => [one.sent_kbps, one.carried_kbps]));
  const x = (one) => WIDE * (1 - (now.seconds - one.seconds) / KEPT);
  const y = (kbps) => 130 * (1 - kbps / most);
  svg.replaceChildren();
  if (past.length > 1)
    shape(svg, "area", [[x(past[0]), 130], ...past.map((one) => [x(one), y(one.carried_kbps)]),
      [WIDE, 130]], true);
  if (now.planned_kbps) shape(svg, "plan", [[0, y(now.planned_kbps)], [WIDE, y(now.planned_kbps)]]);
  if (past.length > 1) shape(svg, "line", past.map((one) => [x(one), y(one.sent_kbps)]));
  svg.setAttribute("aria-label", `The last two minutes: ${number(now.sent_kbps)} kbit/s sent, ` +
    `${number(now.carried_kbps)} kbit/s arrived now`);
}

function drawQueue(svg, past, now) {
  const limit = now.late_after_seconds;
  const most = 1.2 * Math.max(1.2 * limit, ...past.map((one) => one.queued_seconds));
  const y = (seconds) => 80 * (1 - seconds / most), step = WIDE / KEPT;
  svg.replaceChildren();
  for (const one of past) {
    const right = WIDE * (1 - (now.seconds - one.seconds) / KEPT), top = y(one.queued_seconds);
    shape(svg, one.queued_seconds > limit ? "over" : "held",
      [[right - step, 80], [right - step, top], [right, top], [right, 80]], true);
  }
  shape(svg, "plan", [[0, y(limit)], [WIDE, y(limit)]]);
  svg.setAttribute("aria-label", `Queued ${now.queued_seconds.toFixed(2)} s; frames are late from ` +
    `${limit} s on`);
}

function lines(list, texts) {
  list.replaceChildren(...texts.map((text) => {
    const item = document.createElement("li");
    item.textContent = text;
    return item;
  }));
}

function facts(list, rows) {
  list.replaceChildren(...rows.flatMap((row) => row.map((text, place) => {
    const one = document.createElement(place ? "dd" : "dt");
    one.textContent = text;
    return one;
  })));
}

function trouble(one) {
  const lasted = Math.max(1, Math.round(one.lasted_seconds));
  return `${clock(one.at_seconds)} for ${lasted} s, ${one.cause}: ${one.text}`;
}

function shown(number) {
  if (!streams.has(number)) {
    const section = find("stream").content.firstElementChild.cloneNode(true);
    find("streams").append(section);
    streams.set(number, { section, past: [], said: "" });
    find("streams").classList.toggle("several", streams.size > 1);
  }
  return streams.get(number);
}

function draw(now, stream) {
  const { section, past } = stream, of = (name) => section.querySelector(name);
  section.className = `stream ${now.state}`;
  of(".sign").textContent = SIGNS[now.state];
  of(".headline").textContent = now.headline;
  of(".where").textContent = [now.platform, `since ${clock(now.since_seconds)}`,
    `${clock(now.seconds)} on the air`].filter(Boolean).join(" · ");
  of(".text").textContent = now.verdict.text;
  of(".do").hidden = !now.step;
  of(".do strong").textContent = now.step || "";
  const planned = now.planned_kbps ? ` of ${number(now.planned_kbps)} kbit/s planned` : " kbit/s";
  of(".now-sent").textContent = number(now.sent_kbps) + planned;
  of(".now-carried").textContent = `${number(now.carried_kbps)} kbit/s`;
  of(".now-queued").textContent = `${now.queued_seconds.toFixed(2)} s`;
  of(".threshold").textContent = `frames are late from ${now.late_after_seconds} s on`;
  drawRates(of(".rates"), past, now);
  drawQueue(of(".queue"), past, now);
  const rows = [];
  if (now.frames !== null) rows.push(["late frames", `${number(now.late_frames)} of ` +
    `${number(now.frames)}` + (now.lost_frames ? `, ${number(now.lost_frames)} lost` : "")]);
  if (now.fps !== null) rows.push(["frame rate", `${+now.fps.toFixed(2)} fps`]);
  if (now.round_trip_ms) rows.push(["round trips", `${number(now.round_trip_ms)} ms`]);
  facts(of(".facts"), rows);
  lines(of(".breaches"), now.breaches);
  lines(of(".troubles"), now.troubles.length ? now.troubles.map(trouble).reverse() : ["none"]);
}

function take(now) {
  const stream = shown(now.stream);
  stream.past.push(now);
  while (stream.past.length > KEPT || now.seconds - stream.past[0].seconds > KEPT)
    stream.past.shift();
  const said = [now.platform, now.headline].filter(Boolean).join(": ");
  if (said !== stream.said) find("said").textContent = `${said}. ${now.verdict.text}`;
  stream.said = said;
  return [now, stream];
}

function news() {
  const silent = Date.now() - heardAt, was = quiet, text = find("news-text");
  quiet = streams.size === 0 || silent >= SILENT || over !== "";
  find("news").hidden = !quiet;
  find("streams").classList.toggle("past", quiet);
  if (over) text.textContent = over;
  else if (heardAt && quiet) text.textContent = `no news for ${Math.round(silent / 1000)} s`;
  if (quiet && !was) find("said").textContent = text.textContent;
  document.title = quiet ? text.textContent :
    [...streams.values()].map((one) => one.said).join(" · ");
}

const source = new EventSource("events");
source.addEventListener("begin", () => {
  streams.clear();
  find("streams").replaceChildren();
});
source.addEventListener("past", (event) => {
  if (event.data !== "[]") heardAt = Date.now();
  const drawn = new Map(JSON.parse(event.data).map((now) => [now.stream, take(now)]));
  for (const [now, stream] of drawn.values()) draw(now, stream);
  news();
});
source.addEventListener("now", (event) => {
  heardAt = Date.now();
  draw(...take(JSON.parse(event.data)));
  news();
});
source.addEventListener("over", (event) => {
  over = JSON.parse(event.data);
  source.close();
  quiet = false;
  news();
});
setInterval(news, 500);
