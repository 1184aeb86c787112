"use strict";
(function () {
  const list = document.getElementById("list"), form = document.getElementById("filter"), count = document.getElementById("count");
  const sections = Array.from(list.children), all = Array.from(list.querySelectorAll("article"));
  if (all.length < 2) return;
  const texts = all.map(f => f.textContent.toLowerCase());
  const value = id => document.getElementById(id).value;
  function filter() {
    const words = value("words").toLowerCase().split(/\s+/).filter(Boolean), standing = value("standing"), severity = value("severity");
    let shown = 0;
    all.forEach((f, i) => {
      const fits = words.every(w => texts[i].includes(w)) && (!standing || f.dataset.standing === standing) && (!severity || f.dataset.severity === severity);
      f.hidden = !fits;
      if (fits) shown++;
    });
    sections.forEach(s => { s.hidden = !s.querySelector("article:not([hidden])"); });
    count.textContent = shown + " of " + all.length;
  }
  function sort() {
    const key = value("order");
    const rank = f => key === "n" || key === "rank" || key === "worst" ? Number(f.dataset[key]) : f.dataset[key];
    const by = (a, b) => rank(a) < rank(b) ? -1 : rank(a) > rank(b) ? 1 : a.dataset.n - b.dataset.n;
    sections.forEach(s => s.append(...Array.from(s.querySelectorAll("article")).sort(by)));
  }
  form.addEventListener("input", filter);
  document.getElementById("order").addEventListener("change", sort);
  form.addEventListener("submit", e => e.preventDefault());
  form.hidden = false;
  filter();
})();
