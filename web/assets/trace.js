// What a trace carries beside its lines: marks, and gaps in which nothing was read.

// A canvas takes no colour that depends on the scheme: an element is asked what it comes to.
const probe = document.createElement("i");
probe.hidden = true;
document.body.append(probe);
export const css = (name) => { probe.style.color = `var(${name})`; return getComputedStyle(probe).color; };

// axis is how both axes are drawn.
export const axis = () => ({ stroke: css("--color-ink"), font: "14px Figures, monospace", grid: { stroke: css("--color-grid"), width: 1 }, ticks: { stroke: css("--color-grid"), width: 1 } });

// line draws a moment with its words, on one of several rows.
export function line(u, x, words, colour, row) {
  const c = u.ctx, k = devicePixelRatio, px = u.valToPos(x, "x", true);
  c.save();
  c.strokeStyle = c.fillStyle = colour;
  c.lineWidth = 1.5 * k;
  c.setLineDash([]);
  c.textAlign = "left";
  c.textBaseline = "alphabetic";
  c.beginPath();
  c.moveTo(px, u.bbox.top);
  c.lineTo(px, u.bbox.top + u.bbox.height);
  c.stroke();
  c.font = `500 ${14 * k}px Text, sans-serif`;
  const w = c.measureText(words).width;
  c.fillText(words, Math.min(px + 5 * k, u.bbox.left + u.bbox.width - w), u.bbox.top + (14 + 16 * row) * k);
  c.restore();
}

// notes draws the marks and gaps of a run.
export function notes(u, marks, gaps) {
  const c = u.ctx, k = devicePixelRatio;
  (marks || []).forEach((m, i) => line(u, m.t_s, m.text, css("--color-second"), 1 + (i % 3)));
  for (const g of gaps || []) {
    const a = u.valToPos(g.from_s, "x", true), b = u.valToPos(g.to_s, "x", true);
    c.save();
    c.fillStyle = css("--color-grid");
    c.fillRect(a, u.bbox.top, b - a, u.bbox.height);
    c.fillStyle = css("--color-ink");
    c.textAlign = "left";
    c.font = `500 ${14 * k}px Text, sans-serif`;
    c.fillText("nothing read", a + 4 * k, u.bbox.top + u.bbox.height - 8 * k);
    c.restore();
  }
}
