"use strict";
// Cut-offs that are typed, dragged or moved by keys, and the chances on each side of them with their
// errors, worked out as the library does: hits per block, the spread between blocks, and Wilson's
// interval with the effective number of trials.
(() => {
  const bytes = (text) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));

  // Rounded to decimals as Python rounds: of two that are equally near, the even one.
  const fixed = (x, decimals) => {
    const exact = x.toFixed(Math.min(decimals + 60, 100));
    const cut = exact.length - (Math.min(decimals + 60, 100) - decimals);
    const rest = exact.slice(cut);
    if (!/^50*$/.test(rest)) return x.toFixed(decimals);
    const kept = exact.slice(0, decimals ? cut : cut - 1);
    const last = Number(kept.replace(".", "").slice(-1));
    if (last % 2 === 0) return kept;
    return (Number(kept) + Math.sign(x || 1) * 10 ** -decimals).toFixed(decimals);
  };

  const wilson = (p, n, z) => {
    const spread = z * Math.sqrt((p * (1 - p)) / n + (z * z) / (4 * n * n));
    const scale = 1 + (z * z) / n, middle = p + (z * z) / (2 * n);
    const low = p === 0 ? 0 : (middle - spread) / scale;
    const high = p === 1 ? 1 : (middle + spread) / scale;
    return [low, high];
  };

  // The share of trials with a hit, from the hits of each block; of weighted trials from the weights
  // of the hits, and after these from the squares of the weights. Wilson's interval is that of as
  // many independent trials as have the variance of the share.
  const sum = (numbers) => numbers.reduce((a, b) => a + b, 0);
  const share = (found, data) => {
    const blocks = data.sizes.length, count = data.count;
    const hits = found.slice(0, blocks), total = sum(hits), p = total / count;
    const none = { p, low: NaN, high: NaN };
    if (!data.hasError) return none;
    const some = p > 1e-12 && p < 1 - 1e-12; // of all or none the variance is that of rounding
    let variance = 0;
    if (data.weights) {
      const own = sum(found.slice(blocks)), others = data.squares - own;
      const worth = (sum_, squares) => (squares > 0 ? sum_ ** 2 / squares : 0);
      if (Math.min(worth(total, own), worth(count - total, others)) < data.fewest) return none;
      if (data.independent) variance = ((1 - p) ** 2 * own + p ** 2 * others) / count ** 2;
    }
    if (!data.independent && some) {
      hits.forEach((h, k) => { variance += ((count * h - data.sizes[k] * total) / count) ** 2; });
      variance *= blocks / (blocks - 1) / count ** 2;
    }
    const n = variance > 0 && some ? (p * (1 - p)) / variance : data.draws;
    const [low, high] = wilson(p, n, variance > 0 && !data.independent ? data.t : data.z);
    return { p, low, high };
  };

  // The values of the trials: in half the room, those that this would move come in full.
  const valuesOf = (data) => {
    const sent = bytes(data.values).buffer;
    if (!data.exact) return new Float64Array(sent);
    const exact = new Map(data.exact.map((x) => [Math.fround(x), x]));
    return Float64Array.from(new Float32Array(sent), (x) => (exact.has(x) ? exact.get(x) : x));
  };

  // How many values of each block lie strictly below, and at most at, a cut-off.
  const counter = (data) => {
    if (data.values) {
      const all = valuesOf(data);
      const weights = data.weights ? new Float64Array(bytes(data.weights).buffer) : null;
      let begin = 0;
      const parts = data.lengths.map((size) => {
        const trials = Array.from({ length: size }, (_, k) => begin + k)
          .filter((k) => all[k] === all[k]);
        if (weights) trials.sort((a, b) => all[a] - all[b]);
        begin += size;
        return trials;
      });
      const blocks = parts.map((trials) => {
        const block = Float64Array.from(trials, (k) => all[k]);
        return weights ? block : block.sort();
      });
      // what the first values of each block weigh together, and the squares of their weights
      const sums = weights && [1, 2].map((power) => parts.map((trials) => {
        let total = 0;
        return [0, ...trials.map((k) => { total += weights[k] ** power; return total; })];
      }));
      const weighed = (places) => (weights
        ? sums.flatMap((rows) => places.map((place, k) => rows[k][place])) : places);
      const place = (block, x, equal) => {
        let low = 0, high = block.length;
        while (low < high) {
          const middle = (low + high) >> 1;
          if (block[middle] < x || (equal && block[middle] === x)) low = middle + 1;
          else high = middle;
        }
        return low;
      };
      return {
        snap: (x) => x,
        below: (x) => weighed(blocks.map((block) => place(block, x, false))),
        upTo: (x) => weighed(blocks.map((block) => place(block, x, true))),
        known: weighed(blocks.map((block) => block.length)),
      };
    }
    // counts per block below each step
    const counts = new Uint16Array(bytes(data.counts).buffer), steps = data.steps;
    const width = steps.length;
    const nearest = (x) => {
      let best = 0;
      steps.forEach((s, k) => { if (Math.abs(s - x) < Math.abs(steps[best] - x)) best = k; });
      return best;
    };
    const at = (x, offset) => data.sizes.map((_, k) => counts[(2 * k + offset) * width + nearest(x)]);
    return {
      snap: (x) => steps[nearest(x)],
      below: (x) => at(x, 0),
      upTo: (x) => at(x, 1),
      known: data.known,
    };
  };

  const decimalsFor = (errors) => {
    const known = errors.filter((e) => e > 5e-7);
    if (!known.length) return 1;
    const least = Math.min(...known);
    return [1, 2].find((d) => least >= 0.5 * 10 ** (-2 - d)) || 3;
  };

  const shown = (found) => {
    const error = (found.high - found.low) / 2;
    const d = decimalsFor([error]);
    const words = error === error ? ` ± ${fixed(100 * error, d)} %` : "";
    return `${fixed(100 * found.p, d)} %${words}`;
  };

  // A figure as people type it: 6,000,000 or 6.000.000, 6 000 000, 6m, 6 mn, 6 million, 8 %.
  const TIMES = {
    "": 1, k: 1e3, thousand: 1e3, m: 1e6, mn: 1e6, mio: 1e6, million: 1e6, millions: 1e6,
    b: 1e9, bn: 1e9, billion: 1e9,
  };
  const number = (text, unit = "") => {
    let plain = text.trim().toLowerCase().replace(/[−–]/g, "-");
    for (const end of [unit.toLowerCase(), unit.toLowerCase().split(" ")[0]]) {
      if (end && plain.endsWith(end)) plain = plain.slice(0, -end.length).trim();
    }
    const found = plain.match(/^([-+]?)([\d.,\s_'’]*?)(e[-+]?\d+)?\s*([a-z]*)\.?$/);
    if (!found || !(found[4] in TIMES)) return NaN;
    let digits = found[2].replace(/[\s_'’]/g, "");
    const commas = digits.split(",").length - 1, dots = digits.split(".").length - 1;
    if (commas && dots) {
      const [group, point] = digits.lastIndexOf(",") > digits.lastIndexOf(".") ? [".", ","] : [",", "."];
      const [whole, ...rest] = digits.split(point);
      if (rest.length !== 1 || !new RegExp(`^\\d{1,3}(\\${group}\\d{3})+$`).test(whole)) return NaN;
      digits = `${whole.split(group).join("")}.${rest[0]}`;
    } else if (/^\d{1,3}(,\d{3})+$/.test(digits)) digits = digits.replace(/,/g, "");
    else if (dots > 1 && /^\d{1,3}(\.\d{3})+$/.test(digits)) digits = digits.replace(/\./g, "");
    else if (commas === 1) digits = digits.replace(",", ".");
    if (!/^(\d+\.?\d*|\.\d+)$/.test(digits)) return NaN;
    return Number(`${found[1]}${digits}${found[3] || ""}`) * TIMES[found[4]];
  };

  const written = (x) => Number(x.toPrecision(12)).toLocaleString("en-US", {
    maximumFractionDigits: 6,
  }).replace("-", "−").replace(/^−0$/, "0");

  const groups = {};
  const ranks = JSON.parse(document.getElementById("drivers").textContent).map(bytes);
  const svgOf = (name, attributes, parent) => {
    const one = document.createElementNS("http://www.w3.org/2000/svg", name);
    Object.entries(attributes).forEach(([key, value]) => one.setAttribute(key, value));
    return parent.appendChild(one);
  };

  const prepare = (box) => {
    const data = JSON.parse(box.querySelector("script").textContent);
    let read = null;
    const counts = () => (read ||= counter(data)); // not before they are needed: the page is ready sooner
    const { scale, unit, axis: [first, last] } = data;
    const one = (selector) => box.querySelector(selector);
    const all = (selector) => [...box.querySelectorAll(selector)];
    const fields = all(".field"), inputs = fields.map((field) => field.querySelector("input"));
    const notes = fields.map((field) => field.querySelector(".read"));
    const names = fields.map((field) => field.querySelector("label").firstChild);
    const lines = all("svg.cut"), handles = lines.map((line) => line.querySelector("g"));
    const zones = ["low", "mid", "high"].map((name) => one(`clipPath[id^=${name}] rect`));
    const cells = ["low", "mid", "high", "at"].map((name) => one(`.shares .${name} strong`));
    const svg = one("svg.main"), more = one("button.more"), back = one("button.back");
    const closer = one("details.closer");
    let cuts = [data.start], waiting = 0;
    const sample = Math.max(-first, last) * scale >= 1e6
      ? "6,000,000 or 6 m or 6 million" : `a figure such as ${written(data.start * scale)}`;
    const after = unit ? ` ${unit}` : "";

    const share100 = (x) => (100 * (Math.min(Math.max(x, first), last) - first)) / (last - first);

    // The lines, zones and words of the cut-offs.
    const place = (typed) => {
      const [low, high] = [cuts[0], cuts[cuts.length - 1]].map(share100);
      [[0, low], [low, high], [high, 100]].forEach(([from, to], k) => {
        zones[k].setAttribute("x", `${from}%`);
        zones[k].setAttribute("width", `${Math.max(to - from, 0)}%`);
      });
      const two = cuts.length > 1;
      lines[1].setAttribute("visibility", two ? "visible" : "hidden");
      fields[1].hidden = !two;
      more.textContent = two ? "Remove the upper cut-off" : "Add a second cut-off";
      back.hidden = !two && cuts[0] === data.start;
      const told = cuts.map((x) => written(x * scale));
      cuts.forEach((x, k) => {
        lines[k].setAttribute("x", `${share100(x)}%`);
        const name = two ? ["Lower cut-off", "Upper cut-off"][k] : "Cut-off";
        names[k].textContent = `${name}${unit ? `, ${unit}` : ""} `;
        if (typed !== k) {
          inputs[k].value = told[k];
          notes[k].textContent = x < first || x > last ? "outside the picture" : "";
          inputs[k].setAttribute("aria-invalid", "false");
        }
        Object.entries({
          role: "slider", tabindex: 0, "aria-label": name, "aria-valuemin": first * scale,
          "aria-valuemax": last * scale, "aria-valuenow": x * scale, "aria-valuetext": `${told[k]}${after}`,
        }).forEach(([key, value]) => handles[k].setAttribute(key, value));
      });
      if (!two) ["role", "tabindex", "aria-label", "aria-valuemin", "aria-valuemax", "aria-valuenow",
        "aria-valuetext"].forEach((key) => handles[1].removeAttribute(key));
      one(".first-cut").textContent = told[0];
      one(".last-cut").textContent = told[told.length - 1];
    };

    const update = (typed = -1, follow = true) => {
      if (follow) groups[box.dataset.group || ""]?.forEach((other) => other(cuts, box));
      const known = counts(), two = cuts.length > 1;
      const [a, b] = [cuts[0], cuts[cuts.length - 1]];
      const below = known.below(a), upToA = known.upTo(a);
      const belowB = known.below(b), upToB = known.upTo(b);
      const between = belowB.map((n, k) => Math.max(n - upToA[k], 0));
      const above = upToB.map((n, k) => known.known[k] - n);
      const at = upToA.map((n, k) => n - below[k] + (two ? upToB[k] - belowB[k] : 0));
      [below, between, above, at].forEach((hits, k) => {
        cells[k].textContent = shown(share(hits, data));
      });
      cells[1].parentElement.hidden = !two;
      cells[3].parentElement.hidden = at.every((n) => n === 0);
      place(typed);
      if (closer.open) drivers();
      clearTimeout(waiting);
      waiting = setTimeout(() => {
        const middle = two ? `between ${cells[1].textContent}, ` : "";
        one(".spoken").textContent = `Below ${cells[0].textContent}, ${middle}above ${cells[2].textContent}`;
      }, 400);
    };

    // A cut-off never passes the other one.
    const move = (k, x, typed = -1) => {
      const [least, most] = [k ? cuts[0] : -Infinity, k || cuts.length < 2 ? Infinity : cuts[1]];
      cuts[k] = counts().snap(Math.min(Math.max(x, least), most));
      update(typed);
    };
    const neat = (x) => {
      if (Math.abs(share100(x) - share100(data.start)) < 0.8) return data.start;
      return Number((Math.round(x / data.step) * data.step).toPrecision(12));
    };

    // How the drivers were in the trials on one side of the cut-off, beside all trials.
    let looked = null, pictures = null;
    const drivers = () => {
      const holder = one(".drivers");
      if (!holder || !ranks.length || !(data.values || data.first)) return;
      looked ||= valuesOf(data.first || data).slice(0, ranks[0].length);
      const weights = data.weights ? new Float64Array(bytes(data.weights).buffer) : null;
      pictures ||= JSON.parse(holder.dataset.names).map((name) => {
        const figure = holder.appendChild(document.createElement("figure"));
        const drawn = svgOf("svg", { viewBox: "0 0 160 62", preserveAspectRatio: "none", role: "img",
          "aria-label": `${name} in the chosen trials` }, figure);
        figure.appendChild(document.createElement("figcaption")).textContent = name;
        return [Array.from({ length: 16 }, (_, k) => svgOf("rect", { x: 10 * k, width: 9 }, drawn)),
          svgOf("line", { x1: 0, x2: 160 }, drawn)];
      });
      const [a, b] = [cuts[0], cuts[cuts.length - 1]], which = one(".where").value;
      one(".where [value=between]").disabled = cuts.length < 2;
      const chosen = (x) => (which === "below" ? x < a : which === "above" ? x > b : x >= a && x <= b);
      let found = 0, weight = 0;
      const bins = ranks.map(() => new Float64Array(16));
      looked.forEach((x, trial) => {
        if (!chosen(x)) return;
        const own = weights ? weights[trial] : 1;
        found += 1;
        weight += own;
        ranks.forEach((rank, k) => { bins[k][rank[trial] >> 4] += own; });
      });
      one(".chosen").textContent = `${found.toLocaleString("en-US")} of `
        + `${looked.length.toLocaleString("en-US")} trials looked at`;
      pictures.forEach(([bars, level], k) => {
        const most = Math.max(2.5, ...Array.from(bins[k], (n) => (16 * n) / Math.max(weight, 1e-9)));
        bars.forEach((bar, j) => {
          const height = found ? (60 * ((16 * bins[k][j]) / weight)) / most : 0;
          bar.setAttribute("height", height);
          bar.setAttribute("y", 62 - height);
        });
        ["y1", "y2"].forEach((end) => level.setAttribute(end, 62 - 60 / most));
      });
    };

    inputs.forEach((input, k) => {
      input.addEventListener("input", () => {
        const x = number(input.value, unit) / scale;
        const wrong = x !== x
          ? `cannot be read; write ${sample}`
          : k === 0 && cuts.length > 1 && x > cuts[1] ? "is above the upper cut-off"
            : k === 1 && x < cuts[0] ? "is below the lower cut-off" : "";
        input.setAttribute("aria-invalid", String(wrong !== ""));
        notes[k].textContent = wrong;
        if (wrong) return;
        move(k, x, k);
        const told = `${written(cuts[k] * scale)}${after}`;
        const near = Math.abs(cuts[k] - x) > 1e-9 * (last - first) && x >= first && x <= last;
        notes[k].textContent = `${near ? "the nearest figure counted is" : "read as"} ${told}${x < first || x > last ? ", outside the picture" : ""}`;
      });
      input.addEventListener("change", () => {
        if (input.getAttribute("aria-invalid") !== "true") place(-1);
      });
    });
    handles.forEach((handle, k) => handle.addEventListener("keydown", (event) => {
      const small = 10 * data.step, large = (last - first) / 10;
      const by = { ArrowLeft: -small, ArrowDown: -small, ArrowRight: small, ArrowUp: small,
        PageDown: -large, PageUp: large }[event.key];
      const to = event.key === "Home" ? first : event.key === "End" ? last : cuts[k] + by;
      if (to !== to) return;
      event.preventDefault();
      move(k, Number((Math.round(to / data.step) * data.step).toPrecision(12)));
    }));
    svg.addEventListener("pointerdown", (event) => {
      const frame = svg.getBoundingClientRect();
      const at = (moved) => first
        + (last - first) * Math.min(Math.max((moved.clientX - frame.left) / frame.width, 0), 1);
      const x = at(event);
      const k = cuts.length > 1 && Math.abs(x - cuts[1]) < Math.abs(x - cuts[0]) ? 1 : 0;
      const drag = (moved) => move(k, neat(at(moved)));
      const stop = () => svg.removeEventListener("pointermove", drag);
      svg.setPointerCapture(event.pointerId);
      svg.addEventListener("pointermove", drag);
      ["pointerup", "pointercancel"].forEach((end) => svg.addEventListener(end, stop, { once: true }));
      drag(event);
      handles[k].focus({ preventScroll: true });
      event.preventDefault();
    });
    more.addEventListener("click", () => {
      if (cuts.length > 1) cuts = [cuts[0]];
      else {
        const away = neat(cuts[0] + (last - first) / 5);
        cuts = away <= last ? [cuts[0], away] : [neat(cuts[0] - (last - first) / 5), cuts[0]];
        cuts = cuts.map((x) => counts().snap(x));
      }
      update();
    });
    back.addEventListener("click", () => { cuts = [data.start]; update(); });
    one(".where")?.addEventListener("change", drivers);
    closer.addEventListener("toggle", () => { if (closer.open) drivers(); });
    if (box.dataset.group) {
      (groups[box.dataset.group] ||= []).push((others, from) => {
        if (from === box) return;
        cuts = others.map((x) => counts().snap(x));
        update(-1, false);
      });
    }

    // The percentile that is asked for, to the half, and the picture.
    const asked = one(".reader input");
    asked.addEventListener("input", () => {
      const q = number(asked.value), at = Math.round(2 * q) - 1;
      const known = q === q && at >= 0 && at < data.percentiles.length;
      asked.setAttribute("aria-invalid", String(!known));
      if (!known) return;
      one(".which-percentile").textContent = `P${(at + 1) / 2}`;
      const [value, low, high] = data.percentiles[at].split(";");
      one(".percentile").textContent = high ? `${value} (95 % interval ${low} to ${high})` : value;
    });
    const view = one(".view select");
    view.addEventListener("change", () => {
      const whole = view.value === "histogram";
      one(".histogram").setAttribute("visibility", whole ? "visible" : "hidden");
      one(".curves").setAttribute("visibility", whole ? "hidden" : "visible");
      all(".curve").forEach((line) => {
        line.setAttribute("visibility", line.dataset.view === view.value ? "visible" : "hidden");
      });
    });
    one(".controls").hidden = false;
    place(-1); // the chances are those that the page was written with
  };
  document.querySelectorAll(".needs-script").forEach((part) => { part.hidden = false; });

  // Outcomes whose name holds what is typed, in the list and below it.
  document.querySelectorAll(".find").forEach((input) => {
    const section = input.closest("section"), told = section.querySelector(".found");
    const rows = [...section.querySelectorAll(".lines tbody tr")];
    input.addEventListener("input", () => {
      const words = input.value.toLowerCase().split(/\s+/).filter(Boolean);
      let hits = 0;
      rows.forEach((row) => {
        const link = row.querySelector("a"), name = link.textContent.toLowerCase();
        const hit = words.every((word) => name.includes(word));
        row.hidden = !hit;
        section.querySelector(link.getAttribute("href")).hidden = !hit;
        hits += hit;
      });
      section.querySelectorAll("details.rest").forEach((rest) => { rest.open = words.length > 0; });
      told.textContent = words.length ? `${hits} of ${rows.length} outcomes` : "";
    });
  });
  document.querySelectorAll(".live").forEach((box) => {
    const folded = box.closest("details.outcome:not([open])");
    if (folded) folded.addEventListener("toggle", () => prepare(box), { once: true });
    else prepare(box);
  });

  // A table that is wider than the page can be scrolled by keys too.
  const scrolled = () => document.querySelectorAll(".wide").forEach((part, k) => {
    const wide = part.scrollWidth > part.clientWidth;
    const given = { tabindex: 0, role: "region", "aria-label": `${part.dataset.label}, table ${k + 1}` };
    Object.entries(given).forEach(([key, value]) => {
      if (wide) part.setAttribute(key, value);
      else part.removeAttribute(key);
    });
  });
  scrolled();
  addEventListener("resize", scrolled);
  addEventListener("toggle", scrolled, true);

  // What a link leads to is unfolded, and on paper all is.
  const unfold = () => {
    let part = location.hash.length > 1 ? document.getElementById(location.hash.slice(1)) : null;
    for (; part; part = part.parentElement) if (part.tagName === "DETAILS") part.open = true;
  };
  addEventListener("hashchange", unfold);
  unfold();
  let folded = [];
  addEventListener("beforeprint", () => {
    folded = [...document.querySelectorAll("details:not([open]):not(.closer)")]
      .filter((part) => !part.closest(".many .outcome"));
    folded.forEach((part) => { part.open = true; });
  });
  addEventListener("afterprint", () => folded.forEach((part) => { part.open = false; }));

  // Single trials in a fan, one after the other.
  document.querySelectorAll(".live-fan").forEach((box) => {
    const data = JSON.parse(box.querySelector("script").textContent);
    const slider = box.querySelector("input"), button = box.querySelector("button");
    const path = box.querySelector(".path"), which = box.querySelector(".which");
    let timer = 0;
    const show = () => {
      const k = Number(slider.value);
      path.setAttribute("points", data.paths[k].map((y, j) => `${data.across[j]},${y}`).join(" "));
      which.textContent = data.words[k];
      box.querySelectorAll(".sheet td").forEach((cell, j) => { cell.textContent = data.sheet[j][k]; });
    };
    const stop = () => { clearInterval(timer); timer = 0; button.textContent = "Play"; };
    slider.max = data.paths.length - 1;
    slider.addEventListener("input", () => { stop(); show(); });
    button.addEventListener("click", () => {
      if (timer) { stop(); return; }
      if (slider.value === slider.max) slider.value = 0;
      button.textContent = "Stop";
      timer = setInterval(() => {
        slider.value = Number(slider.value) + 1;
        show();
        if (slider.value === slider.max) stop();
      }, 150);
    });
    const closer = box.querySelector("details.closer");
    closer.addEventListener("toggle", () => {
      stop();
      path.setAttribute("visibility", closer.open ? "visible" : "hidden");
      if (closer.open) show();
    });
  });
  // The weights along a frontier, which follow the pointer or the slider.
  document.querySelectorAll(".live-curve").forEach((box) => {
    const data = JSON.parse(box.querySelector("script").textContent);
    const slider = box.querySelector("input"), svg = box.querySelector("svg.main-curve");
    const here = box.querySelector(".here"), rows = [...box.querySelectorAll(".weights tr")];
    const show = () => {
      const k = Number(slider.value);
      here.setAttribute("cx", data.across[k]);
      here.setAttribute("cy", data.up[k]);
      box.querySelector(".which").textContent = data.words[k];
      rows.forEach((row, j) => {
        const weight = data.weights[k][j];
        const bar = row.querySelector("rect");
        bar.setAttribute("width", 200 * Math.min(Math.abs(weight), 1));
        bar.setAttribute("fill-opacity", weight < 0 ? 0.5 : 1);
        row.querySelector("td.right").textContent = `${fixed(100 * weight, 1)} %`;
      });
    };
    slider.max = data.across.length - 1;
    slider.addEventListener("input", show);
    svg.addEventListener("pointermove", (event) => {
      const frame = svg.getBoundingClientRect();
      const x = ((event.clientX - frame.left) / frame.width) * 800;
      const y = ((event.clientY - frame.top) / frame.height) * 390;
      let best = 0;
      const gap = (k) => (data.across[k] - x) ** 2 + (data.up[k] - y) ** 2;
      data.across.forEach((_, k) => { if (gap(k) < gap(best)) best = k; });
      slider.value = best;
      show();
    });
    show();
  });
  document.documentElement.dataset.ready = "yes";
})();
