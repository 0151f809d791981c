// @ts-check
// The marks of several mics as one, as the server has them: of the marks of one stroke one stands for it.

/**
 * @param {{id: string, own: {times: number[], take: number[], sure: number[], strength: number[], joins: boolean[]}}[]} mics
 * @returns {{times: number[], take: number[], sure: number[], strength: number[], joins: boolean[], owner: string[]}}
 *   in order of time
 */
export function joined(mics) {
  const kept = mics
    .flatMap(({ id, own }) =>
      own.times.map((time, k) => ({
        id,
        time,
        take: own.take[k],
        sure: own.sure[k],
        strength: own.strength[k],
        joins: own.joins[k],
      })),
    )
    .filter((one) => one.joins)
    .sort((a, b) => a.time - b.time);
  return {
    times: kept.map((one) => one.time),
    take: kept.map((one) => one.take),
    sure: kept.map((one) => one.sure),
    strength: kept.map((one) => one.strength),
    joins: kept.map(() => true),
    owner: kept.map((one) => one.id),
  };
}

/** The same of takes by their ids, made anew when their marks are. @param {{marks: (id: string) => any}} host */
export function makeTogether(host) {
  /** @type {{of: any[], made: any} | null} */
  let known = null;
  /** @param {string[]} ids */
  return (ids) => {
    const each = ids.map((id) => host.marks(id));
    if (!known || known.of.length !== each.length || !known.of.every((one, k) => one === each[k]))
      known = { of: each, made: joined(ids.map((id, k) => ({ id, own: each[k] }))) };
    return known.made;
  };
}
