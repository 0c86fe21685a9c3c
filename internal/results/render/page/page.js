"use strict";
(() => {
  const form = document.getElementById("filter"), shown = document.getElementById("shown");
  const names = ["severity", "code", "operation", "field", "text"];
  const causes = [...document.querySelectorAll(".cause")];
  const has = (list, value, by) => (list || "").split(by).includes(value);
  let data;
  const exchanges = () => data || (data = JSON.parse(document.getElementById("exchanges").textContent));
  const make = (tag, text, attributes) => {
    const e = document.createElement(tag);
    if (text !== undefined) e.textContent = text;
    for (const name in attributes || {}) e.setAttribute(name, attributes[name]);
    return e;
  };

  // The filters.
  const wanted = () => Object.fromEntries(names.map(n => [n, form.elements[n].value.trim()]));
  const matches = (e, f, op) => {
    if (f.operation && !has(op === undefined ? e.dataset.op : op, f.operation, "\n")) return false;
    if (f.field && !(e.dataset.field || "").split("\n").some(p => p.toLowerCase().includes(f.field.toLowerCase()))) return false;
    if (f.code && !has(e.dataset.code, f.code, " ")) return false;
    if (f.severity && !has(e.dataset.sev, f.severity, " ")) return false;
    return !f.text || e.textContent.toLowerCase().includes(f.text.toLowerCase());
  };
  const apply = () => {
    const f = wanted(), none = names.every(n => !f[n]);
    let n = 0;
    for (const c of causes) if (!(c.hidden = !none && !matches(c, f))) n++;
    shown.textContent = none ? "" : n + " of " + causes.length + " causes";
    const places = { operation: f.operation, field: f.field, text: "", code: "", severity: "" };
    for (const r of document.querySelectorAll(".resource")) {
      r.hidden = !!f.operation && !has(r.dataset.op, f.operation, "\n");
      for (const b of r.querySelectorAll(".matrix tbody")) b.hidden = !!f.field && !matches(b, { field: f.field });
      if (!r.hidden && f.field) r.hidden = ![...r.querySelectorAll(".matrix tbody")].some(b => !b.hidden);
    }
    for (const l of document.querySelectorAll("#layouts [data-op]")) l.hidden = !matches(l, { operation: f.operation });
    for (const m of document.querySelectorAll(".messages tbody tr")) m.hidden = !matches(m, { operation: f.operation, field: f.field, text: f.text });
    for (const o of document.querySelectorAll(".operation")) {
      let any = false;
      for (const r of o.querySelectorAll("tr[id]")) if (!(r.hidden = !none && !matches(r, f, o.dataset.op))) any = true;
      o.hidden = !none && !any;
    }
  };
  const remember = () => {
    const q = new URLSearchParams(Object.entries(wanted()).filter(([, v]) => v));
    history.replaceState(null, "", q.size ? "#?" + q : "#");
  };
  form.hidden = false;
  form.addEventListener("submit", e => e.preventDefault());
  form.addEventListener("input", () => { apply(); remember(); });
  form.addEventListener("reset", () => setTimeout(() => { apply(); remember(); }));

  // A case in full, under its line.
  const indented = text => {
    try { JSON.parse(text); } catch { return text; }
    let out = "", depth = 0, quoted = false;
    for (let i = 0; i < text.length; i++) {
      const c = text[i], line = () => "\n" + "  ".repeat(depth);
      if (quoted) { out += c; if (c === "\\") out += text[++i]; else if (c === '"') quoted = false; continue; }
      if (/\s/.test(c)) continue;
      if (c === '"') quoted = true;
      if ("{[".includes(c)) { if (/^\s*[}\]]/.test(text.slice(i + 1, i + 40))) { out += c; continue; } depth++; out += c + line(); }
      else if ("}]".includes(c)) { if (/[{[]$/.test(out)) { out += c; continue; } depth--; out += line() + c; }
      else if (c === ",") out += c + line();
      else if (c === ":") out += ": ";
      else out += c;
    }
    return out;
  };
  const open = row => {
    if (row.nextElementSibling && row.nextElementSibling.className === "opened") { row.nextElementSibling.remove(); return; }
    const id = row.id.slice(1), x = exchanges().cases[id], tr = make("tr", undefined, { class: "opened" }), td = make("td", undefined, { colspan: 4 });
    if (!x) td.textContent = "This exchange is not in the page. See it with: obiter show " + id;
    else {
      const t = exchanges().texts, pair = make("div", undefined, { class: "pair" });
      const part = (title, first, headers, body) => {
        const f = make("figure");
        f.append(make("figcaption", title), make("pre", [first, t[headers], "", indented(t[body])].filter((s, i) => s || i === 2).join("\n").trimEnd()));
        pair.append(f);
      };
      part("sent", x[0], x[1], x[2]);
      part("answered after " + x[6] + " ms", x[3], x[4], x[5]);
      td.append(pair);
      if (x[7] !== undefined) td.append(make("figcaption", "logged by the service"), make("pre", t[x[7]]));
    }
    tr.append(td);
    row.after(tr);
  };

  // A cell of the matrix opens its cases.
  const list = link => {
    const tr = link.closest("tr"), next = tr.nextElementSibling, was = next && next.className === "opened" ? next : null;
    if (was) was.remove();
    for (const a of tr.querySelectorAll("[aria-expanded=true]")) a.setAttribute("aria-expanded", "false");
    if (was && was.dataset.of === link.dataset.cases) return;
    const ul = make("ul"), td = make("td", undefined, { colspan: 20 }), out = make("tr", undefined, { class: "opened" });
    out.dataset.of = link.dataset.cases;
    for (const id of link.dataset.cases.split(" ")) {
      const row = document.getElementById("c" + id), li = make("li");
      li.append(make("a", id, { href: "#c" + id }), row ? " " + row.cells[1].textContent + " · " + row.cells[2].textContent + " · " + row.cells[3].textContent : "");
      ul.append(li);
    }
    td.append(ul);
    out.append(td);
    tr.after(out);
    link.setAttribute("aria-expanded", "true");
  };
  document.addEventListener("click", e => {
    const link = e.target.closest("a");
    if (!link) return;
    if (link.dataset.cases) { e.preventDefault(); list(link); return; }
    const row = link.closest("tr[id]");
    if (row && link.getAttribute("href") === "#" + row.id && location.hash === "#" + row.id) { e.preventDefault(); open(row); }
  });

  // What the address says.
  const follow = () => {
    const hash = decodeURIComponent(location.hash);
    if (hash.startsWith("#?")) {
      const q = new URLSearchParams(location.hash.slice(2));
      for (const n of names) form.elements[n].value = q.get(n) || "";
      apply();
      return;
    }
    const row = /^#c[0-9a-f]{10}$/.test(hash) && document.getElementById(hash.slice(1));
    if (!row) return;
    row.hidden = false;
    const o = row.closest("details");
    o.hidden = false;
    o.open = true;
    if (!row.nextElementSibling || row.nextElementSibling.className !== "opened") open(row);
    row.scrollIntoView();
  };
  addEventListener("hashchange", follow);
  follow();
})();
