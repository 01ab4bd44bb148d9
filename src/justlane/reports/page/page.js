"use strict";
(() => {
  const data = JSON.parse(document.getElementById("data").textContent);
  const PORTION = 100;
  const element = (name, text, kind) => {
    const made = document.createElement(name);
    if (text !== undefined) made.textContent = text;
    if (kind) made.className = kind;
    return made;
  };
  const row = (cells) => {
    const made = element("tr");
    for (const cell of cells) {
      if (cell instanceof Node) { const field = element("td"); field.append(cell); made.append(field); }
      else made.append(element("td", cell));
    }
    return made;
  };
  const grantsOf = new Map();
  data.grants.forEach((grant, n) => {
    if (!grantsOf.has(grant[0])) grantsOf.set(grant[0], []);
    grantsOf.get(grant[0]).push(n);
  });
  const told = (grant) => [
    (grant[3] ? "" : "denied: ") + grant[1] + (grant[8] ? ` (bundle ${grant[8]})` : ""), grant[2], data.principals[grant[0]],
    grant[4] + (grant[7] ? (grant[4] ? "; built in" : "built in") : ""), grant[5], element("span", grant[6], "line"),
  ];
  const table = (heads, rows) => {
    const made = element("table"), head = element("thead"), body = element("tbody");
    head.append(element("tr"));
    for (const text of heads) { const cell = element("th", text); cell.scope = "col"; head.firstChild.append(cell); }
    for (const one of rows) body.append(row(one));
    made.append(head, body);
    return made;
  };
  // A list of which only what was looked for, and only so much, is on the page.
  const searched = (place, items, words, show) => {
    const box = document.querySelector(`#${place} input`), list = document.querySelector(`#${place} .list`);
    const count = document.querySelector(`#${place} .count`), more = document.querySelector(`#${place} button`);
    const known = items.map((item) => words(item).toLowerCase());
    let found = [], shown = 0;
    const portion = () => {
      for (const n of found.slice(shown, shown + PORTION)) list.append(show(items[n]));
      shown = Math.min(shown + PORTION, found.length);
      more.hidden = shown >= found.length;
      count.textContent = `${found.length.toLocaleString("en")} of ${items.length.toLocaleString("en")}` + (more.hidden ? "" : `, the first ${shown.toLocaleString("en")} shown`);
    };
    const look = () => {
      const wanted = box.value.toLowerCase().split(/\s+/).filter(Boolean);
      found = [];
      known.forEach((text, n) => { if (wanted.every((word) => text.includes(word))) found.push(n); });
      list.replaceChildren();
      shown = 0;
      portion();
    };
    let waiting = 0;
    box.addEventListener("input", () => { clearTimeout(waiting); waiting = setTimeout(look, 120); });
    more.addEventListener("click", portion);
    look();
  };
  const person = ([login, name, enabled, principals]) => {
    const made = element("details"), head = element("summary");
    const mine = principals.flatMap((p) => grantsOf.get(p) || []);
    head.append(element("b", login), ` ${name === login ? "" : name} `, element("span", enabled ? `${mine.length} grants` : "disabled", "dim"));
    made.append(head);
    made.addEventListener("toggle", () => {
      if (!made.open || made.childElementCount > 1) return;
      const groups = principals.map((p) => data.principals[p]).join(", ");
      made.append(element("p", groups ? `through ${groups}` : "nothing is given to them", "dim"));
      if (mine.length) made.append(table(["role", "at", "through", "when", "because", "line"], mine.map((n) => told(data.grants[n]))));
    });
    return made;
  };
  searched("people", data.people, ([login, name, , principals]) => `${login} ${name} ${principals.map((p) => data.principals[p]).join(" ")}`, person);
  searched("grants", data.grants, (grant) => `${data.principals[grant[0]]} ${grant[1]} ${grant[2]} ${grant[5]} ${grant[6]}`, (grant) => row(told(grant)));
  // The tree of places: what is inside one is made when it is opened.
  const inside = new Map();
  data.scopes.forEach((scope, n) => {
    const above = scope[0].includes("/") ? scope[0].slice(0, scope[0].lastIndexOf("/")) : "";
    if (!inside.has(above)) inside.set(above, []);
    inside.get(above).push(n);
  });
  const at = new Map();
  data.grants.forEach((grant, n) => { if (!at.has(grant[2])) at.set(grant[2], []); at.get(grant[2]).push(n); });
  const branch = (n) => {
    const [address, kind, purpose, gathers, owner] = data.scopes[n];
    const below = inside.get(address) || [], given = at.get(address) || [];
    const name = address.slice(address.lastIndexOf("/") + 1);
    const say = (place) => place.append(element("b", name), ` ${kind}${purpose ? `: ${purpose}` : ""} `,
      element("span", [below.length ? `${below.length} inside` : "", given.length ? `${given.length} grants` : "", owner ? `${owner} answers` : ""].filter(Boolean).join(", "), "dim"));
    if (!below.length && !given.length && !gathers.length) { const leaf = element("div", undefined, "leaf"); say(leaf); return leaf; }
    const made = element("details"), head = element("summary");
    say(head);
    made.append(head);
    const open = () => {
      if (made.childElementCount > 1) return;
      if (gathers.length) made.append(element("p", `gathers ${gathers.join(", ")}`, "dim"));
      if (given.length) made.append(table(["role", "at", "to", "when", "because", "line"], given.map((g) => told(data.grants[g]))));
      made.append(...below.map(branch));
    };
    made.addEventListener("toggle", () => { if (made.open) open(); });
    if (!address.includes("/") && data.scopes.length < 2000) { made.open = true; open(); }
    return made;
  };
  document.querySelector("#places .list").append(...(inside.get("") || []).map(branch));
  document.documentElement.dataset.ready = "yes";
})();
