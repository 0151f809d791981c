// @ts-check
// What is drawn into a piece: its level over time, and its fades.

/** @typedef {import("./piece_geometry.js").Piece} Piece */

// Levels over time are drawn from +12 dB at a piece's upper edge down to −36 dB at its lower one.
const TOP_DB = 12,
  DEEP_DB = 48;

/**
 * Height of a level within a row of pieces, and back.
 * @param {number} y upper edge of the row
 * @param {number} tall
 */
export function levelScale(y, tall) {
  const top = y + 3,
    high = tall - 8;
  return {
    yOf: (/** @type {number} */ db) => top + (high * (TOP_DB - db)) / DEEP_DB,
    dbOf: (/** @type {number} */ at) =>
      Math.round(10 * Math.min(TOP_DB, Math.max(TOP_DB - DEEP_DB, TOP_DB - (DEEP_DB * (at - top)) / high))) /
      10,
  };
}

/**
 * Its level over time: a line with points, 0 dB where there is none.
 * @param {CanvasRenderingContext2D} g
 * @param {Record<string, string>} c
 * @param {(time: number) => number} xAt
 * @param {{a: number, b: number, y: number, tall: number}} box
 * @param {Piece} piece
 * @param {[number, number][]} points ms and dB
 * @param {boolean} chosen
 */
export function drawCurve(g, c, xAt, { a, b, y, tall }, piece, points, chosen) {
  const scale = levelScale(y, tall),
    zero = scale.yOf(0);
  g.save();
  g.beginPath();
  g.rect(a, y + 2, b - a, tall - 6);
  g.clip();
  g.strokeStyle = c.field;
  g.lineWidth = 1.5;
  g.globalAlpha = points.length ? 1 : 0.35;
  g.beginPath();
  g.moveTo(a, zero);
  if (points.length) {
    g.lineTo(xAt(piece.at + points[0][0] / 1000), zero);
    for (const [ms, db] of points) g.lineTo(xAt(piece.at + ms / 1000), scale.yOf(db));
  }
  // The last point holds.
  g.lineTo(b, points.length ? scale.yOf(points[points.length - 1][1]) : zero);
  g.stroke();
  g.globalAlpha = 1;
  g.fillStyle = chosen ? c.field : c.ground;
  for (const [ms, db] of points) {
    g.beginPath();
    g.arc(xAt(piece.at + ms / 1000), scale.yOf(db), 3.5, 0, 7);
    g.fill();
    g.stroke();
  }
  g.restore();
}

/**
 * Its own fades: the paper is worn away above a slant.
 * @param {CanvasRenderingContext2D} g
 * @param {Record<string, string>} c
 * @param {(time: number) => number} xAt
 * @param {{a: number, b: number, y: number, tall: number}} box
 * @param {Piece} piece
 */
export function drawFades(g, c, xAt, { a, b, y, tall }, piece) {
  const end = piece.at + piece.stop - piece.start;
  for (const [low, high] of [
    piece.fadeIn ? [piece.at, piece.at + piece.fadeIn / 1000] : [],
    piece.fadeOut ? [end, end - piece.fadeOut / 1000] : [],
  ]) {
    if (low === undefined || high === undefined) continue;
    g.save();
    g.beginPath();
    g.rect(a - 1, y + 2, b - a + 2, tall - 6);
    g.clip();
    g.beginPath();
    g.moveTo(xAt(low), y + tall - 5);
    g.lineTo(xAt(high), y + 3);
    g.stroke();
    g.lineTo(xAt(low), y + 3);
    g.closePath();
    g.globalAlpha = 0.8;
    g.fillStyle = c.ground;
    g.fill();
    g.restore();
  }
}
