package browser

import (
	"time"

	"github.com/chromedp/chromedp"
)

// unreadable finds text whose contrast with what is behind it is below WCAG
// 2.1 level AA: 4.5, or 3 for large text (24 px, or 18.66 px bold). Disabled
// controls are exempt there. Colours are painted on a canvas to read any form.
const unreadable = `(() => {
  const pen = document.createElement("canvas").getContext("2d", { willReadFrequently: true });
  const rgba = (c) => { pen.clearRect(0, 0, 1, 1); pen.fillStyle = c; pen.fillRect(0, 0, 1, 1);
    return [...pen.getImageData(0, 0, 1, 1).data]; };
  const light = ([r, g, b]) => { const f = (v) => { v /= 255;
    return v <= 0.03928 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4; };
    return 0.2126 * f(r) + 0.7152 * f(g) + 0.0722 * f(b); };
  const ground = (e) => { for (; e; e = e.parentElement) { const c = rgba(getComputedStyle(e).backgroundColor);
    if (c[3] > 250) return c; } return [255, 255, 255, 255]; };
  const bad = [];
  const walk = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  for (let n = walk.nextNode(); n; n = walk.nextNode()) {
    const e = n.parentElement;
    if (!n.data.trim() || !e || e.closest(".vh, script, style, [disabled], option, title, desc")) continue;
    const s = getComputedStyle(e);
    if (s.visibility === "hidden" || s.display === "none" || e.getClientRects().length === 0) continue;
    const text = rgba(e.closest("svg") ? s.fill : s.color);
    if (text[3] < 200) continue;
    const a = light(text), b = light(ground(e)), ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
    const px = parseFloat(s.fontSize), large = px >= 24 || (px >= 18.66 && Number(s.fontWeight) >= 700);
    if (ratio < (large ? 3 : 4.5)) bad.push(n.data.trim().slice(0, 40) + " " + ratio.toFixed(2));
  }
  return bad;
})()`

// unnamed finds what can be reached with the keyboard and says nothing to a
// screen reader, and pictures without words.
const unnamed = `(() => {
  const name = (e) => (e.getAttribute("aria-label") || (e.labels && [...e.labels].map((l) => l.innerText).join(" "))
    || e.innerText || e.getAttribute("title") || e.value || "").trim();
  const bad = [...document.querySelectorAll("button, a[href], input, select, textarea, [role=radio]")]
    .filter((e) => e.getClientRects().length > 0 && !name(e)).map((e) => e.outerHTML.slice(0, 80));
  for (const e of document.querySelectorAll("svg")) if (!e.closest("[aria-hidden=true], [role=img]")
    && e.getClientRects().length > 0) bad.push(e.outerHTML.slice(0, 80));
  return bad;
})()`

func (p *Page) find(script string) ([]string, error) {
	var out []string
	return out, p.Run(20*time.Second, chromedp.Evaluate(script, &out))
}

// Unreadable returns texts of too little contrast.
func (p *Page) Unreadable() ([]string, error) { return p.find(unreadable) }

// Unnamed returns controls and pictures that say nothing to a screen reader.
func (p *Page) Unnamed() ([]string, error) { return p.find(unnamed) }
