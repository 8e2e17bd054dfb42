
"use strict";
(() => {
  const all = document.getElementById("all");
  const parts = [...all.querySelectorAll(".part")];
  const documents = [...all.querySelectorAll(".document")];
  const rows = [...all.querySelectorAll("[data-w]")];
  if (rows.length < 2) return;

  const make = (name, more, ...inside) => {
    const made = Object.assign(document.createElement(name), more);
    made.append(...inside);
    return made;
  };
  const nameOf = part => part.querySelector("h2").textContent;
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
  const partNames = [...new Set(parts.map(nameOf))];
  const documentNames = [...new Set(documents.map(one => one.dataset.d))].filter(Boolean);
  const part = choice("Part", "All parts", partNames);
  const within = choice("Document", "All documents", documentNames);
  const kinds = new Map();
  for (const row of rows) kinds.set(row.dataset.w, (kinds.get(row.dataset.w) || 0) + 1);
  const boxes = kinds.size < 2 ? [] : [...kinds].map(([kind, many]) =>
    make("label", {}, make("input", { type: "checkbox", checked: true, value: kind }),
      ` ${kind} (${many.toLocaleString("en")})`));
  const fold = make("button", { type: "button" }, "Fold");
  fold.title = "Fold or unfold all documents";
  const told = make("output");
  told.setAttribute("aria-live", "polite");
  const form = make("form", { role: "search" }, search, part, within, ...boxes, fold, told);
  document.getElementById("filter").append(form);

  // What can be searched in a row, read when somebody searches for the first time.
  let texts = null;
  const textsOf = () => texts ||= rows.map(row => {
    const own = row.closest(".document");
    const group = row.closest(".part");
    const where = `${own ? own.dataset.d : ""} ${group ? nameOf(group) : ""}`;
    return `${row.textContent} ${where}`.toLowerCase();
  });
  const set = (element, isHidden) => { if (element.hidden !== isHidden) element.hidden = isHidden; };

  const filter = () => {
    const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    const known = words.length ? textsOf() : [];
    const wanted = new Set(boxes.map(box => box.firstChild).filter(box => box.checked).map(box => box.value));
    const inPart = part.value && partNames[part.value - 1];
    const inDocument = within.value && documentNames[within.value - 1];
    const left = new Map();
    let shown = 0;
    rows.forEach((row, at) => {
      let own = left.get(row.parentNode);
      if (own === undefined) {
        const group = row.closest(".part"), file = row.closest(".document");
        own = { piece: row.closest(".piece"), file, group, shown: 0,
          fits: (!inPart || (group && nameOf(group) === inPart)) && (!inDocument || (file && file.dataset.d === inDocument)) };
        if (row !== file) left.set(row.parentNode, own);
      }
      const fits = own.fits && (!boxes.length || wanted.has(row.dataset.w)) && words.every(word => known[at].includes(word));
      set(row, !fits);
      if (fits) { shown++; own.shown++; }
    });
    for (const own of left.values()) if (own.piece) set(own.piece, !own.shown);
    for (const file of documents) if (!file.dataset.w) set(file, !file.querySelector(".piece:not([hidden])"));
    for (const group of parts) set(group, !group.querySelector(".document:not([hidden])"));
    const many = rows.length.toLocaleString("en");
    const asked = [search.value && `with “${search.value}”`, inPart && `in ${inPart}`, inDocument,
      boxes.length && wanted.size < boxes.length && [...wanted].join(", ")].filter(Boolean).join(", ");
    told.textContent = asked ? `${shown.toLocaleString("en")} of ${many} shown: ${asked}` : `${many} in all`;
  };

  let asked = 0;
  const soon = () => { cancelAnimationFrame(asked); asked = requestAnimationFrame(filter); };
  form.addEventListener("input", soon);
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
  // What is folded is printed all the same: paper shows what the filter shows.
  let folded = [];
  addEventListener("beforeprint", () => {
    folded = [...document.querySelectorAll("#all details:not([open])")];
    for (const one of folded) one.open = true;
  });
  addEventListener("afterprint", () => { for (const one of folded) one.open = false; });
  filter();
})();
