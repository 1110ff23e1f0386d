
(function () {
  "use strict";
  var box = document.getElementById("choosing");
  if (!box) { return; }
  var items = new Map(), changed = false;
  document.querySelectorAll(".entry[data-item]").forEach(function (entry) {
    var offer = JSON.parse(entry.dataset.offer);
    items.set(entry.dataset.item, {
      name: entry.dataset.item, entry: entry, needs: offer.needs, usual: offer.usual, careful: offer.careful,
      clash: offer.clash, seen: offer.seen, ticked: offer.usual, side: "", fields: null,
      tick: entry.querySelector(".tick"), choice: entry.querySelector(".choice"), because: null, remark: null
    });
  });
  // What is said of a thing, and a place for a remark: made once it is opened or has something to say, for there may be
  // thousands.
  var made = function (one) {
    if (one.because) { return one; }
    if (!one.choice) {
      one.choice = document.createElement("div");
      one.choice.className = "choice";
      one.entry.querySelector(".body").prepend(one.choice);
    }
    one.because = document.createElement("p");
    one.because.className = "because";
    one.because.setAttribute("role", "note");
    one.remark = document.createElement("textarea");
    one.remark.maxLength = 2000;
    one.remark.rows = 1;
    one.remark.addEventListener("input", function () { changed = true; });
    var label = document.createElement("label");
    label.className = "remark";
    label.append("Remark ", one.remark);
    one.choice.append(one.because, label);
    return one;
  };
  document.addEventListener("toggle", function (event) {
    var entry = event.target.closest(".entry[data-item]");
    if (entry && event.target.open) { made(items.get(entry.dataset.item)); }
  }, true);
  items.forEach(function (one) { if (one.entry.querySelector("details").open) { made(one); } });
  // What goes home: what is ticked or decided for staging, and what that cannot stand without, and so on. The rules are
  // those by which the merge itself chooses.
  var follow = function () {
    var goes = new Map(), blocked = new Map();
    items.forEach(function (start) {
      if (!(start.clash ? start.side === "staging" : start.ticked)) { return; }
      if (!start.needs.length) { goes.set(start.name, null); return; }
      var seen = new Set([start.name]), queue = [start], along = [[start, null]], why = "";
      while (queue.length && !why) {
        var one = queue.shift();
        for (var i = 0; i < one.needs.length && !why; i++) {
          var on = items.get(one.needs[i][0]), reason = one.needs[i][1];
          if (!on) { why = one.name + " needs " + one.needs[i][0] + " (" + reason + "), which cannot go home"; }
          else if (on.clash && on.side !== "staging") {
            why = one.name + " needs " + on.name + " (" + reason + "), which both sides changed: decide it for staging";
          } else if (on.careful && !on.ticked) {
            why = one.name + " needs " + on.name + " (" + reason + "), which goes only when it is ticked itself";
          } else if (!seen.has(on.name)) {
            seen.add(on.name); queue.push(on); along.push([on, [one.name, reason]]);
          }
        }
      }
      if (why) { blocked.set(start.name, why); return; }
      along.forEach(function (pair) {
        var wanted = pair[0].clash ? pair[0].side === "staging" : pair[0].ticked;
        if (!goes.has(pair[0].name)) { goes.set(pair[0].name, wanted ? null : pair[1]); }
      });
    });
    return { goes: goes, blocked: blocked };
  };
  var quoted = function (text) {
    return JSON.stringify(text).replace(/[\u007f-\u009f\u2028\u2029]/g, function (c) {
      return "\\u" + ("000" + c.charCodeAt(0).toString(16)).slice(-4);
    });
  };
  var written = function (found) {
    var names = Array.from(items.keys()), lines = ["# A choice made on a page. Then: nostos merge " + box.dataset.voyage +
      " --selection THIS-FILE", "", "[selection]", "voyage = " + quoted(box.dataset.voyage), "site = " +
      quoted(box.dataset.site), "made = " + quoted(new Date().toISOString().slice(0, 19) + "Z")];
    var who = document.getElementById("who").value.trim();
    if (who) { lines.push("chosen_by = " + quoted(who)); }
    lines.push("take = [");
    names.forEach(function (n) { if (found.goes.has(n)) { lines.push("    " + quoted(n) + ","); } });
    lines.push("]", "leave = [");
    names.forEach(function (n) {
      if (!found.goes.has(n) && !items.get(n).clash) { lines.push("    " + quoted(n) + ","); }
    });
    lines.push("]", "", "[decide]");
    items.forEach(function (one) {
      if (one.clash && one.side && (one.side === "live" || found.goes.has(one.name))) {
        lines.push(quoted(one.name) + " = " + (one.fields ? "{ " + Array.from(one.fields, function (pair) {
          return quoted(pair[0]) + " = " + quoted(pair[1]);
        }).join(", ") + " }" : quoted(one.side)));
      }
    });
    lines.push("", "[remarks]");
    items.forEach(function (one) {
      if (one.remark && one.remark.value.trim()) { lines.push(quoted(one.name) + " = " + quoted(one.remark.value.trim())); }
    });
    lines.push("", "[seen]");
    items.forEach(function (one) { lines.push(quoted(one.name) + " = " + quoted(one.seen)); });
    return lines.join("\n") + "\n";
  };
  var shown = new Map();
  var show = function () {
    var found = follow(), along = 0;
    items.forEach(function (one) {
      var goes = found.goes.has(one.name), because = found.goes.get(one.name), why = found.blocked.get(one.name);
      if (because) { along += 1; }
      var text = why ? "It cannot go home: " + why + "." : because ?
        "Comes along: " + because[0] + " needs it (" + because[1] + ")." : one.careful && !goes ?
        "It goes only when it is ticked itself." : "";
      var state = (goes ? "g" : "") + (why ? "b" : "") + (because ? "a" : "") + text;
      if (shown.get(one.name) === state) { return; }
      shown.set(one.name, state);
      one.entry.classList.toggle("goes", goes);
      one.entry.classList.toggle("blocked", Boolean(why));
      if (one.tick) { one.tick.checked = goes || one.ticked; one.tick.disabled = Boolean(because); }
      if (text || one.because) { made(one).because.textContent = text; }
    });
    document.getElementById("sum").textContent = found.goes.size.toLocaleString("en") + " of the " +
      items.size.toLocaleString("en") + " that can go home" + (along ? ", " + along.toLocaleString("en") +
      " of them because others need them" : "") + (found.blocked.size ? ". Not possible so: " +
      Array.from(found.blocked.keys()).slice(0, 3).join(", ") : "") + ".";
    if (document.getElementById("as-text").open) { document.getElementById("text").value = written(found); }
    return found;
  };
  var set = function (usual) {
    items.forEach(function (one) { one.ticked = usual && one.usual; });
    shown.clear(); show();
  };
  items.forEach(function (one) {
    if (one.tick) {
      one.tick.hidden = false;
      one.tick.addEventListener("change", function () { one.ticked = one.tick.checked; changed = true; show(); });
    }
    if (!one.choice) { return; }
    one.choice.hidden = false;
    var byField = one.choice.querySelector(".by-field");
    var decide = function () {
      var whole = one.choice.querySelector(".decide:not([data-field]) input:checked").value;
      one.fields = null;
      one.side = whole === "fields" ? "" : whole;
      if (byField) { byField.hidden = whole !== "fields"; }
      if (whole === "fields") {  // decided once each of them is
        var parts = Array.from(byField.querySelectorAll("[data-field]")), said = new Map();
        parts.forEach(function (part) {
          var one = part.querySelector("input:checked");
          if (one) { said.set(part.dataset.field, one.value); }
        });
        if (said.size === parts.length) {
          one.fields = said;
          one.side = Array.from(said.values()).indexOf("staging") >= 0 ? "staging" : "live";
        }
      }
      changed = true; show();
    };
    one.choice.querySelectorAll(".decide input").forEach(function (input) {
      input.addEventListener("change", decide);
    });
  });
  document.getElementById("all").addEventListener("click", function () { set(true); });
  document.getElementById("none").addEventListener("click", function () { set(false); });
  document.getElementById("as-text").addEventListener("toggle", show);
  document.getElementById("save").addEventListener("click", function () {
    var link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([written(show())], { type: "application/toml" }));
    link.download = box.dataset.voyage + "-choice.toml";
    document.body.appendChild(link); link.click(); link.remove();
    setTimeout(function () { URL.revokeObjectURL(link.href); }, 1000);
    changed = false;
  });
  window.addEventListener("beforeunload", function (event) { if (changed) { event.preventDefault(); } });
  [box, document.getElementById("finish"), document.getElementById("bar")].forEach(function (part) {
    part.hidden = false;
  });
  set(true);
}());
