// Comfort alone: every page works without. A choice in a form shows at once, and / goes to where words are looked for.
"use strict";
for (const form of document.querySelectorAll("form:not([method])")) {
  form.addEventListener("change", (event) => {
    if (event.target.matches("select, input[type=date]") && form.reportValidity()) form.requestSubmit();
  });
}
document.addEventListener("keydown", (event) => {
  const field = document.querySelector("input[type=search]");
  if (event.key !== "/" || event.ctrlKey || event.metaKey || event.altKey || event.target.matches("input, select, textarea")) return;
  event.preventDefault();
  if (field) field.focus();
  else location.assign("/search");
});
