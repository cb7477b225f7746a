// A file that is dropped anywhere on a page with a form for one goes into that form, and is sent.
// Without a script the form is filled and sent by hand.
const form = () => document.querySelector("form[data-drop]");
const files = (e) => e.dataTransfer && [...e.dataTransfer.types].includes("Files");

document.addEventListener("dragover", (e) => {
  const f = form();
  if (!f || !files(e)) return;
  e.preventDefault();
  f.closest("details")?.setAttribute("open", "");
  f.dataset.over = "";
});
document.addEventListener("dragleave", (e) => {
  if (!e.relatedTarget) delete form()?.dataset.over;
});
document.addEventListener("drop", (e) => {
  const f = form();
  if (!f || !files(e) || e.target.closest?.("input[type=file]")) return;
  e.preventDefault();
  delete f.dataset.over;
  const field = f.querySelector("input[type=file]");
  field.files = e.dataTransfer.files;
  if (field.files.length) f.requestSubmit();
});
