(function () {
  "use strict";
  var entries = Array.prototype.slice.call(document.querySelectorAll(".entry"));
  var filter = document.getElementById("filter");
  if (filter) {
    filter.hidden = false;
    var kind = document.getElementById("kind"), find = document.getElementById("find");
    var shown = document.getElementById("shown");
    var boxes = Array.prototype.slice.call(filter.querySelectorAll("[data-standing]"));
    var apply = function () {
      var wanted = {}, count = 0, words = find.value.toLowerCase();
      boxes.forEach(function (b) { wanted[b.dataset.standing] = b.checked; });
      entries.forEach(function (e) {
        var fits = wanted[e.dataset.standing] !== false && (!kind.value || e.dataset.kind === kind.value) &&
          (!words || e.textContent.toLowerCase().indexOf(words) >= 0);
        e.hidden = !fits;
        count += fits ? 1 : 0;
      });
      document.querySelectorAll(".group").forEach(function (g) {
        g.hidden = !g.querySelector(".entry:not([hidden])");
      });
      shown.textContent = "(" + count.toLocaleString("en") + " of " + entries.length.toLocaleString("en") + " shown)";
    };
    filter.addEventListener("input", apply);
    apply();
  }
  var open = function () {
    var at = location.hash && document.getElementById(location.hash.slice(1));
    if (at && at.classList.contains("entry")) {
      at.hidden = false;
      at.querySelector("details").open = true;
      at.scrollIntoView();
    }
  };
  window.addEventListener("hashchange", open);
  open();
  var closed = [];
  window.addEventListener("beforeprint", function () {
    closed = entries.map(function (e) { return e.querySelector("details"); }).filter(function (e) { return !e.open; });
    closed.forEach(function (e) { e.open = true; });
  });
  window.addEventListener("afterprint", function () { closed.forEach(function (e) { e.open = false; }); });
}());
