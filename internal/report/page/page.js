(function () {
  var rows = Array.prototype.slice.call(document.querySelectorAll("#rows tr"));
  var buttons = Array.prototype.slice.call(document.querySelectorAll("button[data-outcome]"));
  buttons = buttons.filter(function (b) { // one that would show nothing is not offered
    var has = rows.some(function (row) { return row.dataset.outcome.trim().split(/\s+/).indexOf(b.dataset.outcome) >= 0; });
    if (!has) { b.remove(); }
    return has;
  });
  var words = document.getElementById("words"), shown = document.getElementById("shown");
  function apply() {
    var outcomes = buttons.filter(function (b) { return b.getAttribute("aria-pressed") === "true"; }).map(function (b) { return b.dataset.outcome; });
    var wanted = words.value.toLowerCase().split(/\s+/).filter(Boolean), count = 0;
    rows.forEach(function (row) {
      var text = row.textContent.toLowerCase();
      row.hidden = outcomes.length > 0 && !row.dataset.outcome.trim().split(/\s+/).some(function (o) { return outcomes.indexOf(o) >= 0; }) || !wanted.every(function (w) { return text.indexOf(w) >= 0; });
      if (!row.hidden) { count++; }
    });
    shown.textContent = count === rows.length ? "" : count + " of " + rows.length + " rows";
  }
  buttons.forEach(function (b) {
    b.addEventListener("click", function () {
      b.setAttribute("aria-pressed", b.getAttribute("aria-pressed") === "true" ? "false" : "true");
      apply();
    });
  });
  words.addEventListener("input", apply);
})();
