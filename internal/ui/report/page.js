"use strict";
(function () {
  var about = JSON.parse(document.getElementById("about").textContent);
  var store = "answers " + about.digest;
  var kept = { person: "", answers: {} };
  try { kept = JSON.parse(localStorage.getItem(store)) || kept; } catch (e) { /* a browser that keeps nothing */ }
  var all = Array.prototype.slice.call(document.querySelectorAll("article[data-address]"));
  var person = document.getElementById("person");
  var state = document.getElementById("state");
  person.value = kept.person || "";

  function now() { return new Date().toISOString().replace(/\.\d+Z$/, "Z"); }
  function keep() {
    kept.person = person.value;
    try { localStorage.setItem(store, JSON.stringify(kept)); } catch (e) { state.dataset.lost = "1"; }
    tell();
  }
  function tell() {
    var n = Object.keys(kept.answers).length;
    state.textContent = (n === 1 ? "1 answer" : n + " answers") + (n && !kept.saved ? ", not saved yet" : "") + (state.dataset.lost ? " (this browser keeps nothing: save before you close)" : "");
  }
  function said(article) {
    var address = article.dataset.address, answered = article.querySelector("input[type=radio]:checked");
    var note = article.querySelector("input.note").value.trim(), comment = article.querySelector("input.comment").value.trim();
    var was = kept.answers[address + "\n"] || {};
    delete kept.answers[address + "\n"];
    if (answered && answered.value || comment) {
      var words = answered && answered.value ? answered.value.split(" ") : ["", ""];
      var a = { decision: words[0], take: words[1] || "", note: words[0] ? note : "", comment: comment };
      a.at = was.decision === a.decision && was.take === a.take && was.note === a.note && was.comment === a.comment ? was.at : now();
      kept.answers[address + "\n"] = a;
    }
    article.querySelectorAll("select.field").forEach(function (select) {
      var key = address + "\n" + select.dataset.field, before = kept.answers[key] || {};
      delete kept.answers[key];
      if (select.value) {
        var words = select.value.split(" ");
        kept.answers[key] = { decision: words[0], take: words[1] || "", note: note, comment: "", at: before.decision === words[0] && before.take === (words[1] || "") && before.note === note ? before.at : now() };
      }
    });
    kept.saved = false;
    keep();
  }
  function show(article) {
    var a = kept.answers[article.dataset.address + "\n"];
    var value = a ? (a.decision + " " + a.take).trim() : "";
    article.querySelectorAll("input[type=radio]").forEach(function (r) { r.checked = r.value === value; });
    if (a) { article.querySelector("input.note").value = a.note; article.querySelector("input.comment").value = a.comment; }
    article.querySelectorAll("select.field").forEach(function (select) {
      var f = kept.answers[article.dataset.address + "\n" + select.dataset.field];
      if (f) { select.value = (f.decision + " " + f.take).trim(); if (!a) { article.querySelector("input.note").value = f.note; } }
    });
  }
  all.forEach(show);
  document.addEventListener("change", function (e) {
    var article = e.target.closest("article[data-address]");
    if (article) { said(article); }
  });
  person.addEventListener("input", keep);

  document.querySelectorAll("button[data-all]").forEach(function (button) {
    button.addEventListener("click", function () {
      button.closest("section").querySelectorAll("article[data-address]:not([hidden])").forEach(function (article) {
        var radio = Array.prototype.find.call(article.querySelectorAll("input[type=radio]"), function (r) { return r.value === button.dataset.all; });
        if (radio) { radio.checked = true; said(article); }
      });
    });
  });

  var filters = ["status", "type", "stands", "answered", "text"].map(function (id) { return document.getElementById("by-" + id); });
  var count = document.getElementById("count");
  // A finding waits for whoever gave their name if their word would bring it on.
  function mine(article) {
    var name = person.value.trim().normalize("NFC").toLowerCase(), stands = article.dataset.stands, answer = kept.answers[article.dataset.address + "\n"];
    if (!name || !article.dataset.asks || answer && answer.decision) { return false; }
    return stands === "clash" || (stands === "open" || stands === "waiting") && article.dataset.spoke.split("\n").indexOf(name) < 0;
  }
  function filter() {
    var status = filters[0].value, type = filters[1].value, stands = filters[2].value, answered = filters[3].value, text = filters[4].value.toLowerCase();
    var n = 0;
    all.forEach(function (article) {
      var has = !!kept.answers[article.dataset.address + "\n"];
      var fits = (!status || article.dataset.status === status) && (!type || article.dataset.type === type) && (!stands || (stands === "mine" ? mine(article) : article.dataset.stands === stands)) &&
        (!answered || has === (answered === "yes")) && (!text || article.textContent.toLowerCase().indexOf(text) >= 0);
      article.hidden = !fits;
      if (fits) { n++; }
    });
    document.querySelectorAll("section.group").forEach(function (section) { section.hidden = !section.querySelector("article:not([hidden])"); });
    count.textContent = n === all.length ? "" : n + " of " + all.length + " findings shown";
  }
  var waiting;
  filters.forEach(function (f) { f.addEventListener("input", function () { clearTimeout(waiting); waiting = setTimeout(filter, f.id === "by-text" ? 200 : 0); }); });

  person.addEventListener("input", function () { if (filters[2].value === "mine") { filter(); } });

  document.getElementById("save").addEventListener("click", function () {
    if (!person.value.trim()) { person.focus(); state.textContent = "Say your name first"; return; }
    var answers = Object.keys(kept.answers).map(function (key) {
      var a = kept.answers[key], at = key.indexOf("\n"), out = { address: key.slice(0, at) };
      if (at < key.length - 1) { out.field = key.slice(at + 1); }
      ["decision", "take", "note", "comment"].forEach(function (name) { if (a[name]) { out[name] = a[name]; } });
      out.at = a.at;
      return out;
    });
    var file = { anagram: "answers", version: 1, docket: about.docket, digest: about.digest, person: person.value.trim(), saved_at: now(), answers: answers };
    var link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([JSON.stringify(file, null, 2) + "\n"], { type: "application/json" }));
    link.download = "answers-" + about.docket + "-" + person.value.trim().toLowerCase().replace(/[^a-z0-9]+/g, "-") + ".json";
    link.click();
    kept.saved = true;
    keep();
  });
  document.getElementById("clear").addEventListener("click", function () {
    kept.answers = {};
    kept.saved = false;
    all.forEach(function (article) {
      article.querySelectorAll("input[type=radio]").forEach(function (r) { r.checked = false; });
      article.querySelectorAll("input.note, input.comment, select.field").forEach(function (i) { i.value = ""; });
    });
    keep();
  });
  window.addEventListener("beforeunload", function (e) { if (state.dataset.lost && Object.keys(kept.answers).length && !kept.saved) { e.preventDefault(); } });
  document.querySelectorAll("[data-script]").forEach(function (part) { part.hidden = false; });
  tell();
})();
