// @ts-check
// Names that begin alike, told apart where there is little room.

/** The least of a shared beginning that is worth leaving out, and names that are short enough as they are. */
const SHARED = 6,
  SHORT = 14;

/**
 * Names without the whole words that each begins with as another one does: "Third Street 04 tub", "Third
 * Street 04 board" -> "… tub", "… board".
 * @param {string[]} names
 * @returns {string[]} as many, in the same order; a name that is short or begins like no other stays
 */
export function toldApart(names) {
  return names.map((name, index) => {
    if (name.length <= SHORT) return name;
    let shared = 0;
    for (const [at, other] of names.entries()) {
      if (at === index || other === name) continue;
      let k = 0;
      while (k < name.length && name[k] === other[k]) k += 1;
      shared = Math.max(shared, k);
    }
    // Back to where a word begins, and never all of it.
    while (shared > 0 && (shared >= name.length || !/[\s_.,–-]/.test(name[shared - 1]))) shared -= 1;
    return shared < SHARED ? name : `… ${name.slice(shared)}`;
  });
}
