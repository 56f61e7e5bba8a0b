"use strict";
(() => {
  const data = JSON.parse(document.getElementById("data").textContent);
  const box = document.getElementById("waves"), canvas = box.querySelector("canvas"), told = document.getElementById("told");
  const pen = canvas.getContext("2d");
  if (!pen || !data.lines.length) return;
  const LANE = 34, LINE = 40, HEAD = 22, LEFT = 96, RIGHT = 10, FONT = "12px ui-monospace, monospace";
  const whole = [0, Math.max(data.length, 1e-3)];
  const near = Math.max(data.focus[1] - data.focus[0], whole[1] / 1e6);
  const place = [Math.max(0, data.focus[0] - near * 0.1), Math.min(whole[1], data.focus[1] + near * 0.1)];
  let from = place[0], to = place[1], mark = null, held = null;
  const height = HEAD + LANE * data.lanes.length + LINE * data.lines.length + 8;
  let width = 800;

  const colour = name => getComputedStyle(document.documentElement).getPropertyValue("--" + name).trim();
  const x = t => LEFT + (t - from) / (to - from) * (width - LEFT - RIGHT);
  const t = px => from + (px - LEFT) / (width - LEFT - RIGHT) * (to - from);
  const first = (times, at) => { let a = 0, b = times.length; while (a < b) { const m = a + b >> 1; if (times[m] < at) a = m + 1; else b = m; } return a; };

  function time(us) {
    const size = Math.abs(us);
    const [by, unit] = size >= 1e6 ? [1e6, "s"] : size >= 1e3 ? [1e3, "ms"] : size >= 1 || size === 0 ? [1, "µs"] : [1e-3, "ns"];
    return +(us / by).toPrecision(6) + " " + unit;
  }

  function size() {
    width = Math.max(320, box.clientWidth);
    const dots = window.devicePixelRatio || 1;
    canvas.width = width * dots; canvas.height = height * dots; canvas.style.height = height + "px";
    pen.setTransform(dots, 0, 0, dots, 0, 0);
    draw();
  }

  function axis() {
    const span = to - from, rough = span / Math.max(2, (width - LEFT) / 130), ten = 10 ** Math.floor(Math.log10(rough));
    const step = [1, 2, 5, 10].map(k => k * ten).find(s => s >= rough);
    const origin = data.origin * 1e6;
    pen.textAlign = "center"; pen.fillStyle = colour("quiet"); pen.strokeStyle = colour("line");
    for (let at = Math.ceil((origin + from) / step) * step; at <= origin + to; at += step) {
      const px = x(at - origin);
      if (px < LEFT + 30 || px > width - 36) continue;
      pen.beginPath(); pen.moveTo(px, HEAD - 4); pen.lineTo(px, height); pen.stroke();
      pen.fillText(time(Math.abs(at) < step / 1e6 ? 0 : at), px, 12);
    }
  }

  function lane(own, top) {
    const h = LANE - 8;
    let last = -1e9;
    for (const [start, end, fill, label] of own.boxes) {
      if (end < from || start > to) continue;
      const a = Math.max(LEFT, x(start)), b = Math.min(width - RIGHT, x(end));
      if (b - last < 1) continue;
      last = b;
      pen.fillStyle = colour(fill); pen.fillRect(a, top, Math.max(1, b - a - 1), h);
      const room = Math.floor((b - a - 6) / 7.3);
      if (room >= 2) {
        pen.fillStyle = colour("ink"); pen.textAlign = "left";
        pen.fillText(label.length <= room ? label : room > 3 ? label.slice(0, room - 1) + "…" : "", a + 4, top + h / 2 + 4);
      }
    }
  }

  function line(own, top) {
    const high = top + 7, low = top + LINE - 9, y = level => level === 1 ? high : level === 0 ? low : (high + low) / 2;
    let at = Math.max(0, first(own.times, from) - 1);
    pen.strokeStyle = colour("trace"); pen.lineWidth = 1.3; pen.beginPath();
    let px = LEFT, level = own.levels[at];
    pen.moveTo(px, y(level));
    for (at += 1; at < own.times.length && own.times[at] <= to; at += 1) {
      const next = x(own.times[at]);
      pen.lineTo(next, y(level)); level = own.levels[at]; pen.lineTo(next, y(level)); px = next;
    }
    pen.lineTo(Math.min(width - RIGHT, x(Math.min(to, whole[1]))), y(level)); pen.stroke(); pen.lineWidth = 1;
  }

  function draw() {
    pen.clearRect(0, 0, width, height); pen.font = FONT;
    for (const [start, end, severity] of data.spans) {
      if (end < from || start > to) continue;
      pen.globalAlpha = 0.14; pen.fillStyle = colour(severity);
      const a = Math.max(LEFT, x(start)); pen.fillRect(a, HEAD, Math.max(2, Math.min(width - RIGHT, x(end)) - a), height - HEAD); pen.globalAlpha = 1;
    }
    axis();
    let top = HEAD;
    const name = (text, role, h) => {
      pen.fillStyle = colour("ink"); pen.textAlign = "right"; pen.fillText(text.length > 12 ? text.slice(0, 11) + "…" : text, LEFT - 8, top + h / 2 + 1);
      if (role && role !== text.toUpperCase()) { pen.fillStyle = colour("quiet"); pen.fillText(role.slice(0, 12), LEFT - 8, top + h / 2 + 14); }
    };
    for (const own of data.lanes) { lane(own, top); name(own.title, "", LANE - 4); top += LANE; }
    for (const own of data.lines) { line(own, top); name(own.name, own.role, LINE - 6); top += LINE; }
    if (mark !== null && mark >= from && mark <= to) {
      pen.strokeStyle = colour("fault"); pen.beginPath(); pen.moveTo(x(mark), HEAD - 6); pen.lineTo(x(mark), height); pen.stroke();
    }
  }

  function show(a, b) {
    const span = Math.min(whole[1], Math.max(b - a, whole[1] / 1e7, 1e-3));
    from = Math.min(Math.max(0, a), whole[1] - span); to = from + span; draw();
  }
  const zoom = (by, at = (from + to) / 2) => show(at - (at - from) * by, at + (to - at) * by);
  const move = by => show(from + (to - from) * by, to + (to - from) * by);
  const act = { in: () => zoom(0.5), out: () => zoom(2), left: () => move(-0.3), right: () => move(0.3), focus: () => show(...place), all: () => show(...whole) };

  box.addEventListener("click", event => { const what = event.target.dataset && event.target.dataset.do; if (what) act[what](); });
  canvas.addEventListener("wheel", event => { event.preventDefault(); zoom(1.0015 ** event.deltaY, t(event.offsetX)); }, { passive: false });
  canvas.addEventListener("pointerdown", event => { canvas.setPointerCapture(event.pointerId); held = { x: event.offsetX, from, to, moved: false }; });
  canvas.addEventListener("pointermove", event => {
    if (held) {
      const by = (held.x - event.offsetX) / (width - LEFT - RIGHT) * (held.to - held.from);
      held.moved = held.moved || Math.abs(held.x - event.offsetX) > 3; show(held.from + by, held.to + by);
    }
    const at = t(event.offsetX);
    told.textContent = time(data.origin * 1e6 + at) + (mark === null ? "" : ", " + time(at - mark) + " from the mark");
  });
  canvas.addEventListener("pointerup", event => { if (held && !held.moved) { mark = t(event.offsetX); draw(); } held = null; });
  canvas.addEventListener("keydown", event => {
    const what = { "+": "in", "-": "out", ArrowLeft: "left", ArrowRight: "right", Home: "all", "0": "focus" }[event.key];
    if (what) { event.preventDefault(); act[what](); }
  });
  window.matchMedia("(prefers-color-scheme: dark)").addEventListener("change", draw);
  window.addEventListener("resize", size);
  box.hidden = false;
  document.querySelector("img.figure").style.display = "none";
  if (!data.whole) document.getElementById("part").textContent = "Of this long capture, " + time(whole[1]) + " around the place are in this page.";
  size();
})();
