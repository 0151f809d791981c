// @ts-check
// The marks of several mics as one: strokes that all of them hear are one, the earliest.

// What several mics hear so near together is one stroke.
const SAME_STROKE_S = 0.015;

/** @param {import("../pages/host.js").Host} host */
export function makeTogether(host) {
  /** @type {{of: any[], made: any} | null} */
  let joined = null;
  /** @param {string[]} ids */
  function together(ids) {
    const each = ids.map((id) => host.marks(id));
    if (joined && joined.of.length === each.length && joined.of.every((one, k) => one === each[k]))
      return joined.made;
    const all = each
      .flatMap((own, k) =>
        own.times.map((time, at) => ({ time, take: own.take[at], sure: own.sure[at], id: ids[k] })),
      )
      .sort((a, b) => a.time - b.time);
    const kept = all.filter((one, k) => k === 0 || one.time - all[k - 1].time > SAME_STROKE_S);
    joined = {
      of: each,
      made: {
        times: kept.map((one) => one.time),
        take: kept.map((one) => one.take),
        sure: kept.map((one) => one.sure),
        owner: kept.map((one) => one.id),
      },
    };
    return joined.made;
  }
  return together;
}
