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

  // The share of trials with a hit, from the hits of each block.
  const share = (hits, data) => {
    const total = hits.reduce((a, b) => a + b, 0), count = data.count;
    const p = total / count;
    if (!data.hasError) return { p, low: NaN, high: NaN };
    let squares = 0;
    hits.forEach((h, k) => { squares += ((count * h - data.sizes[k] * total) / count) ** 2; });
    const blocks = hits.length;
    const variance = ((squares / count ** 2) * blocks) / (blocks - 1);
    let n = count, z = data.z;
    if (variance > 0 && !data.independent) { n = (p * (1 - p)) / variance; z = data.t; }
    const [low, high] = wilson(p, n, z);
    return { p, low, high };
  };

  // How many values of each block lie strictly below, and at most at, a cut-off.
  const counter = (data) => {
    if (data.values) {
      const all = new Float64Array(bytes(data.values).buffer);
      let begin = 0;
      const blocks = data.sizes.map((size) => {
        const block = all.slice(begin, begin + size).filter((x) => x === x).sort();
        begin += size;
        return block;
      });
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
        below: (x) => blocks.map((block) => place(block, x, false)),
        upTo: (x) => blocks.map((block) => place(block, x, true)),
        known: blocks.map((block) => block.length),
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

  const number = (text) => {
    const plain = text.trim().replace(/[\s_]/g, "").replace(/(\d),(?=\d{3}(\D|$))/g, "$1");
    return /^[-+]?(\d+\.?\d*|\.\d+)(e[-+]?\d+)?$/i.test(plain) ? Number(plain) : NaN;
  };

  const written = (x, step) => {
    const decimals = Math.max(0, -Math.floor(Math.log10(step)));
    return x.toLocaleString("en-US", {
      minimumFractionDigits: 0, maximumFractionDigits: Math.min(decimals, 12),
    });
  };

  const groups = {};
  const ranks = JSON.parse(document.getElementById("drivers").textContent).map(bytes);

  document.querySelectorAll(".live").forEach((box) => {
    const data = JSON.parse(box.querySelector("script").textContent);
    let read = null;
    const counts = () => (read ||= counter(data)); // not before they are needed: the page is ready sooner
    const scale = data.scale;
    const [first, last] = data.axis;
    const inputs = [...box.querySelectorAll(".cuts input[type=text]")];
    const sliders = [...box.querySelectorAll("input[type=range]")];
    const lines = [...box.querySelectorAll(".cut")];
    const bars = [...box.querySelectorAll("svg.main .bar")];
    const cells = {
      low: box.querySelector(".low strong"), mid: box.querySelector(".mid strong"),
      high: box.querySelector(".high strong"), at: box.querySelector(".at strong"),
    };
    const spoken = box.querySelector("[aria-live]");
    const cuts = [...data.cuts];
    let waiting = 0;

    const position = (x) => 40 + (720 * (Math.min(Math.max(x, first), last) - first)) / (last - first);

    // The lines, sliders, numbers and colours of the cut-offs.
    const place = (typed) => {
      const [a, b] = [Math.min(...cuts), Math.max(...cuts)];
      cuts.forEach((x, k) => {
        lines[k].setAttribute("x1", position(x));
        lines[k].setAttribute("x2", position(x));
        sliders[k].value = x;
        if (typed !== k) inputs[k].value = written(x * scale, data.step * scale);
      });
      bars.forEach((bar) => {
        const middle = Number(bar.dataset.middle);
        bar.setAttribute("class", `bar ${middle < a ? "low" : middle > b ? "high" : "mid"}`);
      });
    };

    const update = (typed, follow = true) => {
      if (follow) groups[box.dataset.group || ""]?.forEach((one) => one(cuts, box));
      const known = counts();
      const [a, b] = [Math.min(...cuts), Math.max(...cuts)];
      const below = known.below(a), upToA = known.upTo(a);
      const belowB = known.below(b), upToB = known.upTo(b);
      const between = belowB.map((n, k) => Math.max(n - upToA[k], 0));
      const above = upToB.map((n, k) => known.known[k] - n);
      const at = a === b
        ? upToA.map((n, k) => n - below[k])
        : upToA.map((n, k) => n - below[k] + upToB[k] - belowB[k]);
      cells.low.textContent = shown(share(below, data));
      cells.mid.textContent = shown(share(between, data));
      cells.high.textContent = shown(share(above, data));
      cells.at.textContent = shown(share(at, data));
      seen(a === b, at.every((n) => n === 0));
      place(typed);
      drivers(a, b);
      clearTimeout(waiting);
      waiting = setTimeout(() => {
        const middle = a === b ? "" : `between ${cells.mid.textContent}, `;
        spoken.textContent = `Below ${cells.low.textContent}, ${middle}above ${cells.high.textContent}`;
      }, 300);
    };

    // Between two cut-offs that are one there is nothing, and most values have no trial at them.
    const seen = (one, none) => {
      cells.mid.parentElement.hidden = one;
      cells.at.parentElement.hidden = none;
    };

    // How the drivers were in the trials between the cut-offs, beside all trials.
    let looked = null;
    const pictures = [...box.querySelectorAll(".drivers svg")];
    const drivers = (a, b) => {
      if (!ranks.length || !data.values || !pictures.length) return;
      looked ||= new Float64Array(bytes(data.values).buffer).slice(0, ranks[0].length);
      const which = box.querySelector(".where").value;
      const chosen = (x) => (which === "below" ? x < a : which === "above" ? x > b : x >= a && x <= b);
      let found = 0;
      const bins = ranks.map(() => new Float64Array(16));
      looked.forEach((x, trial) => {
        if (!chosen(x)) return;
        found += 1;
        ranks.forEach((rank, k) => { bins[k][rank[trial] >> 4] += 1; });
      });
      box.querySelector(".chosen").textContent = `${found.toLocaleString("en-US")} of `
        + `${looked.length.toLocaleString("en-US")} trials looked at`;
      pictures.forEach((svg, k) => {
        const most = Math.max(2.5, ...Array.from(bins[k], (n) => (16 * n) / Math.max(found, 1)));
        [...svg.querySelectorAll(".bar")].forEach((bar, j) => {
          const height = found ? (60 * ((16 * bins[k][j]) / found)) / most : 0;
          bar.setAttribute("height", height);
          bar.setAttribute("y", 62 - height);
        });
        const level = svg.querySelector(".base");
        level.setAttribute("y1", 62 - 60 / most);
        level.setAttribute("y2", 62 - 60 / most);
      });
    };

    inputs.forEach((input, k) => {
      input.addEventListener("input", () => {
        const x = number(input.value) / scale;
        input.setAttribute("aria-invalid", String(x !== x));
        if (x !== x) return;
        cuts[k] = counts().snap(x);
        update(k);
      });
      input.addEventListener("change", () => update(-1));
    });
    sliders.forEach((slider, k) => slider.addEventListener("input", () => {
      cuts[k] = counts().snap(Number(slider.value));
      update(-1);
    }));
    const svg = box.querySelector("svg.main");
    const dragged = (event) => {
      const frame = svg.getBoundingClientRect();
      const place = ((event.clientX - frame.left) / frame.width) * 800;
      return first + ((last - first) * (Math.min(Math.max(place, 40), 760) - 40)) / 720;
    };
    svg.addEventListener("pointerdown", (event) => {
      const x = dragged(event);
      const k = Math.abs(x - cuts[0]) <= Math.abs(x - cuts[1]) ? 0 : 1;
      const move = (moved) => { cuts[k] = counts().snap(dragged(moved)); update(-1); };
      svg.setPointerCapture(event.pointerId);
      svg.addEventListener("pointermove", move);
      svg.addEventListener("pointerup", () => svg.removeEventListener("pointermove", move), { once: true });
      move(event);
      event.preventDefault();
    });
    const choice = box.querySelector(".where");
    if (choice) choice.addEventListener("change", () => update(-1));
    if (box.dataset.group) {
      (groups[box.dataset.group] ||= []).push((others, from) => {
        if (from === box) return;
        others.forEach((x, k) => { cuts[k] = counts().snap(x); });
        update(-1, false);
      });
    }

    // The percentile that is asked for, to the half, and the picture.
    const asked = box.querySelector(".reader input");
    asked.addEventListener("input", () => {
      const q = number(asked.value), place = Math.round(2 * q) - 1;
      const known = q === q && place >= 0 && place < data.percentiles.length;
      asked.setAttribute("aria-invalid", String(!known));
      if (!known) return;
      box.querySelector(".which-percentile").textContent = `P${(place + 1) / 2}`;
      const [value, low, high] = data.percentiles[place].split(";");
      box.querySelector(".percentile").textContent = high
        ? `${value} (95 % interval ${low} to ${high})` : value;
    });
    const view = box.querySelector(".view select");
    view.addEventListener("change", () => {
      const whole = view.value === "histogram";
      box.querySelector(".histogram").setAttribute("visibility", whole ? "visible" : "hidden");
      box.querySelector(".curves").setAttribute("visibility", whole ? "hidden" : "visible");
      box.querySelectorAll(".curve").forEach((one) => {
        one.setAttribute("visibility", one.dataset.view === view.value ? "visible" : "hidden");
      });
    });
    box.querySelector(".cuts").hidden = false;
    box.querySelectorAll(".needs-script").forEach((one) => { one.hidden = false; });
    place(-1); // the chances are those that the page was written with
    seen(cuts[0] === cuts[1], /^0\.0+ %/.test(cells.at.textContent));
    setTimeout(() => drivers(Math.min(...cuts), Math.max(...cuts)), 0);
  });

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
    box.querySelector(".needs-script").hidden = false;
    show();
  });
  // The weights along a frontier, which follow the pointer or the slider.
  document.querySelectorAll(".live-curve").forEach((box) => {
    const data = JSON.parse(box.querySelector("script").textContent);
    const slider = box.querySelector("input"), svg = box.querySelector("svg.main");
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
        bar.setAttribute("class", weight < 0 ? "bar low" : "bar mid");
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
    box.querySelector(".needs-script").hidden = false;
    show();
  });
  document.documentElement.dataset.ready = "yes";
})();
