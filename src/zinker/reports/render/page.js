
"use strict";
(() => {
  const all = document.getElementById("all");
  const nameOf = part => part.querySelector("h2, h3").textContent;
  const set = (element, isHidden) => { if (element.hidden !== isHidden) element.hidden = isHidden; };
  const make = (name, more, ...inside) => {
    const made = Object.assign(document.createElement(name), more);
    made.append(...inside);
    return made;
  };

  // A long page has most of its rows as text, which a browser without scripts takes for rows by itself. They are made
  // when they come near, and bit by bit while nothing else happens; until then they can be counted and searched.
  const entity = { "&lt;": "<", "&gt;": ">", "&quot;": '"', "&#x27;": "'", "&amp;": "&" };
  const plain = line => line.replace(/<[^>]*>/g, " ").replace(/&(?:lt|gt|quot|#x27|amp);/g, one => entity[one]);
  const placeOf = element => {
    const file = element.closest(".document"), part = element.closest(".part");
    return { file, part, partName: part ? nameOf(part) : "", documentName: file ? file.dataset.d : "" };
  };
  const pieceOf = box => {
    const waiting = box.querySelector("noscript");
    const lines = waiting ? waiting.textContent.split("\n").filter(line => line.startsWith("<tr")) : null;
    const rows = waiting ? null : [...box.querySelectorAll("tbody tr")];
    const kinds = lines ? lines.map(line => /^<tr data-w="([^"]*)"/.exec(line)?.[1]) : rows.map(row => row.dataset.w);
    return { box, waiting, lines, rows, kinds, keeps: null, texts: null, ...placeOf(box) };
  };
  const boxes = [...all.querySelectorAll(".piece")];
  const pieces = boxes.map(pieceOf);
  const searched = pieces.filter(piece => piece.kinds[0] !== undefined);
  const wholes = [...all.querySelectorAll(".whole")].map(box =>
    ({ box, rows: [], kinds: [box.dataset.w], keeps: null, texts: null, ...placeOf(box) }));
  const units = [...searched, ...wholes];

  const show = piece => {
    set(piece.box, piece.keeps !== null && !piece.keeps.includes(1));
    if (piece.rows) piece.rows.forEach((row, at) => set(row, piece.keeps !== null && !piece.keeps[at]));
  };
  const build = piece => {
    if (!piece.waiting) return;
    piece.box.innerHTML = piece.waiting.textContent;
    piece.waiting = null;
    piece.rows = [...piece.box.querySelectorAll("tbody tr")];
    show(piece);
  };
  const waiting = new Map(pieces.filter(piece => piece.waiting).map(piece => [piece.box, piece]));
  const near = new IntersectionObserver(seen => {
    for (const one of seen) if (one.isIntersecting) { build(waiting.get(one.target)); near.unobserve(one.target); }
  }, { rootMargin: "1500px" });
  for (const box of waiting.keys()) near.observe(box);
  const left = [...waiting.values()];
  const idle = window.requestIdleCallback || (then => setTimeout(() => then({ timeRemaining: () => 5 }), 50));
  const more = time => {
    while (left.length && time.timeRemaining() > 4) build(left.shift());
    if (left.length) idle(more);
  };
  idle(more);

  // What is folded, or not made yet, is printed all the same: paper shows what the filter shows.
  let folded = [];
  addEventListener("beforeprint", () => {
    for (const piece of pieces) if (!piece.box.hidden) build(piece);
    folded = [...all.querySelectorAll("details:not([open])")];
    for (const one of folded) one.open = true;
  });
  addEventListener("afterprint", () => { for (const one of folded) one.open = false; });

  const count = units.reduce((sum, unit) => sum + unit.kinds.length, 0);
  if (count < 2) return;
  const choice = (label, first, names) => {
    const options = [first, ...names].map((name, at) => make("option", { value: at ? String(at) : "" }, name));
    const select = make("select", {}, ...options);
    select.setAttribute("aria-label", label);
    select.hidden = names.length < 2;
    return select;
  };
  const search = make("input", { type: "search", placeholder: "Search" });
  search.setAttribute("aria-label", "Search in names, addresses and values");
  search.title = "Every word has to be there; / goes here, Escape empties it";
  const partNames = [...new Set(units.map(unit => unit.partName))].filter(Boolean);
  const documentNames = [...new Set(units.map(unit => unit.documentName))].filter(Boolean);
  const part = choice("Part", "All parts", partNames);
  const within = choice("Document", "All documents", documentNames);
  const tally = new Map();
  for (const unit of units) for (const kind of unit.kinds) tally.set(kind, (tally.get(kind) || 0) + 1);
  const ticks = tally.size < 2 ? [] : [...tally].map(([kind, many]) =>
    make("label", {}, make("input", { type: "checkbox", checked: true, value: kind }),
      ` ${kind} (${many.toLocaleString("en")})`));
  const fold = make("button", { type: "button" }, "Fold");
  fold.title = "Fold or unfold all documents";
  const told = make("output");
  told.setAttribute("aria-live", "polite");
  const form = make("form", { role: "search" }, search, part, within, ...ticks, fold, told);
  document.getElementById("filter").append(form);

  const textsOf = unit => unit.texts ||= (unit.lines ? unit.lines.map(plain)
    : unit.rows.length ? unit.rows.map(row => row.textContent) : [unit.box.textContent])
    .map(text => `${text} ${unit.documentName} ${unit.partName}`.toLowerCase());
  const filter = () => {
    const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    const wanted = new Set(ticks.map(tick => tick.firstChild).filter(box => box.checked).map(box => box.value));
    const inPart = part.value && partNames[part.value - 1];
    const inDocument = within.value && documentNames[within.value - 1];
    const isAll = !words.length && !inPart && !inDocument && (!ticks.length || wanted.size === ticks.length);
    let shown = 0;
    for (const unit of units) {
      const fits = (!inPart || unit.partName === inPart) && (!inDocument || unit.documentName === inDocument);
      const texts = words.length && fits ? textsOf(unit) : [];
      unit.keeps = isAll ? null : unit.kinds.map((kind, at) =>
        fits && (!ticks.length || wanted.has(kind)) && words.every(word => texts[at].includes(word)) ? 1 : 0);
      shown += unit.keeps ? unit.keeps.reduce((sum, one) => sum + one, 0) : unit.kinds.length;
      show(unit);
    }
    for (const file of all.querySelectorAll(".document:not(.whole)")) set(file, !file.querySelector(".piece:not([hidden])"));
    for (const group of all.querySelectorAll(".part")) set(group, !group.querySelector(".document:not([hidden])"));
    // What stands under a heading goes with it where none of its parts is left.
    let under = [];
    const settle = () => {
      const own = under.filter(one => one.matches(".part"));
      if (own.length) for (const one of under) if (!one.matches(".part")) set(one, own.every(part => part.hidden));
      under = [];
    };
    for (const one of all.children) { if (one.matches("h2")) settle(); if (one.matches("h2") || under.length) under.push(one); }
    settle();
    const many = count.toLocaleString("en");
    const asked = [search.value && `with “${search.value}”`, inPart && `in ${inPart}`, inDocument,
      ticks.length && wanted.size < ticks.length && [...wanted].join(", ")].filter(Boolean).join(", ");
    told.textContent = asked ? `${shown.toLocaleString("en")} of ${many} shown: ${asked}` : `${many} in all`;
  };

  let asked = 0;
  form.addEventListener("input", () => { cancelAnimationFrame(asked); asked = requestAnimationFrame(filter); });
  form.addEventListener("submit", event => event.preventDefault());
  const foldable = [...all.querySelectorAll("details.document:not(.whole)")];
  fold.hidden = !foldable.length;
  fold.addEventListener("click", () => {
    const isOpen = foldable.some(one => one.open);
    for (const one of foldable) one.open = !isOpen;
    fold.textContent = isOpen ? "Unfold" : "Fold";
  });
  addEventListener("keydown", event => {
    if (event.key === "Escape" && document.activeElement === search) { search.value = ""; filter(); }
    if (event.key === "/" && !event.target.closest("input, select, textarea")) { event.preventDefault(); search.focus(); }
  });
  filter();
})();
