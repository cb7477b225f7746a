// Runs before the page is drawn, so that a dark bay is not lit up first.
(function () {
  try {
    var s = localStorage.getItem("scheme");
    if (s === "night" || s === "day") document.documentElement.dataset.scheme = s;
  } catch (e) { /* storage may be shut off: the system's scheme serves */ }
})();
