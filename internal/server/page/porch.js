// East Porch for pages; porch.d.ts beside it describes everything. No dependencies.
(() => {
  "use strict";
  const script = document.currentScript, set = script.dataset, doc = document;
  const base = new URL(".", script.src), root = doc.documentElement;
  const fields = (set.fields || "location,locale,clock,money,variants").replace(/\s/g, "");
  // Companions are asked for where the page shows one, or its script says data-companions.
  const shows = () => /(^|,)companions\b/.test(fields) || "companions" in set || doc.querySelector("[data-porch^='companions.']") !== null;
  const wanted = () => (shows() && !/(^|,)companions\b/.test(fields) ? `${fields},companions` : fields);
  const place = `porch ${base} ${set.site || ""} ${fields}`;
  // Storage may be forbidden; then nothing is remembered and all else works.
  const memory = (key, value) => {
    try {
      if (value === undefined) return localStorage.getItem(key);
      if (allowed) localStorage.setItem(key, value);
    } catch { return null; }
  };
  const tell = (name, detail) => doc.dispatchEvent(new CustomEvent(`porch:${name}`, { detail }));
  const at = (card, path) => path.split(".").reduce((o, key) => (o && Object.hasOwn(o, key) ? o[key] : undefined), card);
  const choice = () => memory("porch choice") || "";
  let last = null, asked = null, state = "loading", turn = 0;
  // allowed says whether anything may be sent or remembered: not before consent, where that is waited for.
  let allowed = set.visit !== "consent", begun = false;

  const url = (path, query = {}) => {
    const u = new URL(path, base);
    for (const [k, v] of Object.entries({ key: set.key, site: set.site, choice: choice(), ...query })) if (v) u.searchParams.set(k, v);
    return u;
  };

  async function call(to, init) {
    if (!allowed) throw new Error("There is no consent.");
    const answer = await fetch(to, { credentials: "same-origin", signal: AbortSignal.timeout(set.timeout || 5000), ...init });
    const body = await answer.json();
    if (!answer.ok) {
      console.warn(`East Porch: ${body.detail} ${body.hint}`);
      throw Object.assign(new Error(body.detail || answer.statusText), { status: answer.status });
    }
    return body;
  }
  const ask = (query) => call(url("v1/visitor", { fields: wanted(), prices_in: priced(), ...query }));
  const priced = () => [...new Set([...doc.querySelectorAll("[data-currency]")].map((e) => e.dataset.currency))].join();

  // send reports a view, and gives the card that answers it. It is sent again, with the same
  // nonce, where no answer came or the service was busy. A text asks no preflight.
  async function send(view) {
    const nonce = `${Date.now().toString(36)}-${Array.from(crypto.getRandomValues(new Uint32Array(3)), (n) => n.toString(36)).join("")}`;
    const body = JSON.stringify({ site: set.site, path: location.pathname, ...view, nonce });
    for (const pause of [1000, 4000, 0]) {
      try {
        return (await call(url("v1/visits", { fields: wanted(), prices_in: priced() }), { method: "POST", body, keepalive: true })).card;
      } catch (error) {
        if (!allowed || !pause || error.status < 500 && error.status !== 429) throw error;
        await new Promise((done) => { setTimeout(done, pause); });
      }
    }
  }

  // refresh asks once, shows what came, and keeps it for the next page view; an answer that
  // comes after a later one's question is not shown.
  function refresh(question = ask()) {
    const mine = ++turn;
    return (asked = question.then((card) => {
      if (mine === turn && allowed) {
        memory(place, JSON.stringify({ ...card, companions: undefined })); // whose age would be wrong
        show(card, false);
        follow(card.companions, true);
      }
      return card;
    }, (error) => {
      state = "failed";
      if (!last) mark(doc);
      tell("failed", { error });
      throw error;
    }));
  }

  const mark = (within) => within.querySelectorAll("[data-porch]").forEach((e) => { e.dataset.porchState = state; });

  // follow asks for the companions again: once in a moment where one is being asked, then as often as the service
  // says that there may be something new, and never while nobody looks.
  let timer = 0, due = false;
  const least = 60;
  function follow(companions, again) {
    clearTimeout(timer);
    const all = Object.values(companions || {}), times = all.map((c) => c.refresh_after).filter((n) => n !== null);
    if (again && all.some((c) => c.pending)) timer = setTimeout(look, 150, false);
    else if (times.length) timer = setTimeout(look, Math.max(least, Math.min(86400, ...times)) * 1000 * (1 + Math.random() / 10), true);
  }
  function look(again) {
    if (doc.hidden) due = true;
    else if (allowed && last) {
      const mine = turn;
      ask({ fields: "companions", companions: "wait:2s" }).then(({ companions }) => {
        if (mine !== turn || !allowed) return;
        show({ ...last, companions }, false);
        follow(companions, again);
      }).catch(() => follow({ none: { refresh_after: least } }, false));
    }
  }
  doc.addEventListener("visibilitychange", () => {
    if (!due || doc.hidden) return;
    due = false;
    look(true);
  });

  // dress puts one class for each companion on the page, NAME-CATEGORY, in the place of the one before.
  const worn = new Map();
  function dress(companions) {
    for (const [name, c] of Object.entries(companions || {})) {
      const was = worn.get(name), now = c.category ? `${name}-${c.category}` : "";
      if (was === now) continue;
      if (was) root.classList.remove(was);
      if (now) root.classList.add(now);
      worn.set(name, now);
      if (c.credit && !doc.querySelector(`[data-porch='companions.${name}.credit']`)) console.warn(`companions.${name}: show its credit, data-porch="companions.${name}.credit"`);
    }
  }

  function show(card, stale) {
    last = card;
    dress(card.companions);
    apply(doc);
    tell("card", { card, stale });
  }

  // own is what an element was before any answer, to be again where an answer has nothing
  // for it: facts of two answers never stand side by side.
  const own = new WeakMap(), kept = ["title", "src", "alt", "href"];
  const put = (e, text) => {
    if (text === null) {
      const was = own.get(e);
      if (was.put) e.replaceChildren(...was.nodes);
      was.put = false;
      for (const a of kept) attribute(e, a, was[a]);
    } else if (text && e.textContent !== text) { // only where it differs, so that nothing moves for nothing
      own.get(e).put = true;
      e.textContent = text;
    }
  };
  const attribute = (e, name, value) => {
    if (value === null) e.removeAttribute(name);
    else if (e.getAttribute(name) !== value) e.setAttribute(name, value);
  };

  function apply(within) {
    for (const e of within.querySelectorAll("[data-porch]")) {
      const path = e.dataset.porch;
      if (!own.has(e)) own.set(e, Object.fromEntries([["nodes", [...e.childNodes]], ...kept.map((a) => [a, e.getAttribute(a)])]));
      const text = (Object.hasOwn(kinds, path) ? kinds[path] : fact)(e, path);
      if (text !== undefined) put(e, text);
      if (text !== undefined) e.dataset.porchState = text === null ? "failed" : "ready";
    }
  }

  const short = (tag) => tag.toLowerCase().split("-")[0];
  // habits are the visitor's, but never in another language than the page's.
  const habits = () => {
    const own = at(last, "locale.formatting"), page = root.lang, tag = own && page && short(own) !== short(page) ? page : own;
    return tag && short(tag) === "nn" ? [tag, "nb"] : tag; // browsers may know only one Norwegian
  };

  // Each gives the text to show, null to leave the element's own, undefined where it is
  // none of a text's business.
  const fact = (e, path) => {
    const value = at(last, path), [first, name, which] = path.split(".");
    if (first === "companions" && which === "category" && value) return e.getAttribute(`data-${value}`) ?? value;
    if (first === "companions" && which === "credit" && e.localName === "a") attribute(e, "href", at(last, `companions.${name}.credit_url`) ?? own.get(e).href);
    return value == null || typeof value === "object" ? null : String(value);
  };
  const kinds = {
    time: (e) => api.time(e.dateTime || e.getAttribute("datetime"), e.dataset.dateStyle),
    price: (e) => {
      const p = api.price(e.value ?? e.getAttribute("value"), e.dataset.currency);
      attribute(e, "title", p?.direction ? `${e.getAttribute("value")} ${p.from}. ${p.direction}, ${p.dated}, ${p.source}.` : own.get(e).title);
      return p && p.text;
    },
    flag: (e) => {
      const code = at(last, "location.country_code");
      if (!code) return null;
      attribute(e, "alt", at(last, "locale.names.country") || code);
      attribute(e, "src", url(`v1/countries/${code}/flag.svg`, { key: "", site: "", choice: "", shape: e.dataset.shape }).href);
      return "";
    },
    switch: (e) => { e.hidden = !other(); },
    locate: (e) => { e.hidden = !canLocate() || !e.textContent.trim(); }, // its text is what the position is for
    stay() {}, go() {},
  };

  // other is the page in the language that suits, where that is not this page's and the
  // visitor has not chosen yet.
  function other() {
    const wanted = at(last, "locale.language");
    if (!wanted || choice() || short(wanted) === short(root.lang)) return null;
    const links = [...doc.querySelectorAll("link[rel=alternate][hreflang]")];
    return links.find((l) => l.hreflang === wanted) || links.find((l) => short(l.hreflang) === short(wanted));
  }

  // decimal is a number as so many of its smallest part: fractions would be rounded
  // otherwise than the service rounds.
  const scale = 20;
  const decimal = (n) => {
    const m = /^([-+]?)(\d+)(?:\.(\d{0,20}))?$/.exec(String(n).trim());
    return m && BigInt(m[1] + m[2] + (m[3] ?? "").padEnd(scale, "0"));
  };

  const canLocate = () => isSecureContext && "geolocation" in navigator;

  const api = {
    get last() { return last; },
    get choice() { return choice(); },
    card: () => asked,
    visit: (view) => refresh(send(view)),
    consent(given) {
      const before = allowed;
      allowed = !!given;
      if (allowed && !before) begin();
      if (!allowed) {
        turn++; // what is under way is not shown
        clearTimeout(timer);
        try { for (const key of [place, "porch choice"]) localStorage.removeItem(key); } catch {}
        doc.cookie = "porch_choice=;path=/;max-age=0";
      }
    },
    apply,
    choose(language) {
      memory("porch choice", language);
      if (allowed) doc.cookie = `porch_choice=${encodeURIComponent(language)};path=/;max-age=${language ? 31536000 : 0};samesite=lax${location.protocol === "https:" ? ";secure" : ""}`;
      tell("choice", { language });
      return refresh();
    },
    time(instant, style = "full") {
      const t = new Date(instant), zone = at(last, "clock.time_zone");
      if (!zone || isNaN(t)) return null;
      return new Intl.DateTimeFormat(habits(), { dateStyle: style, timeStyle: "short", timeZone: zone, calendar: "gregory" }).format(t);
    },
    price(value, from) {
      const money = last?.money, rate = (from && money?.rates?.find((r) => r.from === from)) || money?.rate, n = decimal(value);
      from ||= rate?.from;
      if (!money?.currency_code || n === null || !from) return null;
      const own = from === money.currency_code;
      if (!own && rate?.from !== from) return null;
      // A rate is rounded to 20 decimals: what is half a step by the whole rate must not fall below it.
      const whole = n < 0n ? -n : n, sign = n < 0n ? "-" : "";
      let size = own ? whole * decimal(1) : whole * decimal(rate.rate) + whole, digits = money.display_digits ?? 2;
      const unit = (places) => 10n ** BigInt(2 * scale - places), text = () => (size ? sign : "") + `${size}`.padStart(2 * scale + 1, "0").replace(/(\d{40})$/, ".$1");
      const round = (places) => { size = (size + unit(places) / 2n) / unit(places) * unit(places); };
      if (!own && rate.ending) { // such as x.95
        const [whole, part = ""] = rate.ending.slice(1).split("."), step = unit(-whole.length), end = decimal(`0${whole}.${part}`) * unit(scale);
        let best = size - ((size - end) % step + step) % step;
        if (best <= 0n || 2n * (size - best) >= step) best += step;
        if (size) size = best;
        digits = Math.max(digits, part.length);
      } else round(money.minor_units ?? digits);
      const amount = Number(text());
      round(digits);
      const shown = { style: "currency", currency: money.currency_code, minimumFractionDigits: digits, maximumFractionDigits: digits };
      return {
        text: new Intl.NumberFormat(habits(), shown).format(text()), amount, currency: money.currency_code, from, ...(own ? {} : { direction: rate.direction, dated: rate.dated, source: rate.source }) };
    },
    async locate() {
      if (!canLocate()) throw new Error("This device or page cannot tell a position.");
      if (navigator.userActivation && !navigator.userActivation.isActive) throw new Error("A position is asked for after the visitor's own action only.");
      const { coords } = await new Promise((yes, no) => navigator.geolocation.getCurrentPosition(yes, no, { timeout: 10000, maximumAge: 60000 }));
      const card = await ask({
        fields: `${wanted()},device`, latitude: coords.latitude.toFixed(3), longitude: coords.longitude.toFixed(3), accuracy_km: Math.min(20000, coords.accuracy / 1000).toFixed(3),
      });
      show(card, false); // it is not kept
      return card;
    },
  };

  doc.addEventListener("click", (event) => {
    const e = event.target.closest?.("[data-porch]"), what = e?.dataset.porch, to = what === "go" && other();
    if (what === "stay" || to) {
      const chosen = to ? api.choose(at(last, "locale.language")) : api.choose(root.lang);
      doc.querySelectorAll("[data-porch=switch]").forEach((s) => { s.hidden = true; });
      if (to) location.assign(to.href);
      chosen.catch(() => {});
    } else if (what === "locate") {
      e.disabled = true;
      api.locate().catch((error) => tell("failed", { error })).finally(() => { e.disabled = false; });
    }
  });

  const start = () => {
    mark(doc);
    if (last) apply(doc);
    if (begun && asked && shows()) asked.then((card) => card.companions || look(true), () => {}); // the page was not there when it was asked
  };
  window.porch = Object.freeze(Object.defineProperties({}, Object.getOwnPropertyDescriptors(api)));
  if (doc.readyState === "loading") doc.addEventListener("DOMContentLoaded", start);
  else start();

  // view counts a view of the page, where the script is told to, and asks for the card.
  const view = (more) => {
    if (allowed) ("visit" in set ? api.visit(more).catch((error) => error.status < 500 && refresh()) : refresh()).catch(() => {});
  };
  // A view is a load, another path or query by pushState or Back, and each return of a page that the browser kept.
  const address = () => location.pathname + location.search;
  let here = address();
  const moved = (counts) => {
    const before = here;
    if ((here = address()) !== before && counts && "visit" in set) view();
  };
  for (const name of ["pushState", "replaceState"]) {
    const own = history[name];
    history[name] = function (...given) {
      own.apply(this, given);
      moved(name === "pushState");
    };
  }
  addEventListener("popstate", () => moved(true));
  addEventListener("pageshow", (e) => { if (e.persisted) view(); });

  // begin is the first view: of a page that is prepared before it is shown, when it is.
  const begin = () => {
    if (!allowed) return;
    if (begun) return void refresh().catch(() => {});
    begun = true;
    try { last = JSON.parse(memory(place)); } catch { last = null; }
    if (last) show(last, true);
    const first = () => view(doc.referrer ? { referrer: doc.referrer } : {});
    if (doc.prerendering) doc.addEventListener("prerenderingchange", first, { once: true });
    else first();
  };
  begin();
})();
