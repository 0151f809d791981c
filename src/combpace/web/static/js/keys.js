// @ts-check
// Keys, by their position, so that other layouts work. What a field needs for itself it keeps; Enter and
// Escape give the keys back.

const RANGE_KEYS = ["ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown", "PageUp", "PageDown", "Home", "End"];

/**
 * The name of a key press: "KeyA", "Space", "Shift+Enter", "Ctrl+KeyZ", "?", "+" ...
 * @param {{code: string, key: string, shiftKey: boolean, ctrlKey: boolean, metaKey: boolean}} event
 */
export function nameOf(event) {
  const held = `${event.ctrlKey || event.metaKey ? "Ctrl+" : ""}${event.shiftKey ? "Shift+" : ""}`;
  if (event.key === "?") return "?";
  if (event.code === "NumpadAdd" || event.key === "+") return "+";
  if (event.code === "NumpadSubtract" || event.key === "-") return "-";
  if (event.code === "NumpadEnter") return `${held}Enter`;
  if (event.code.startsWith("Numpad") && /\d$/.test(event.code))
    return held + event.code.replace("Numpad", "Digit");
  return held + event.code;
}

/** Escape only gives the keys back; Enter does, and takes what is proposed. @param {string} code */
const leaving = (code) => (code === "Escape" ? "leave" : code === "Enter" ? "leave and page" : "page");

/**
 * Whom a key press belongs to: the page's commands, or the element that has the focus.
 * @param {{kind: "text" | "choice" | "box" | "range" | "button" | "place" | "none", changed?: boolean}}
 *   focused
 * @param {string} name as `nameOf` has it
 * @returns {"page" | "field" | "leave" | "leave and page"} leave: the field gives the keys back
 */
export function ownerOf(focused, name) {
  const code = name.replace(/^(Ctrl\+)?(Shift\+)?/, "");
  switch (focused.kind) {
    case "text":
      // Undo inside a field that is being typed in is the field's own.
      return name.startsWith("Ctrl+") && !focused.changed ? "page" : "field";
    case "choice":
      if (code === "Escape") return "leave";
      return name.startsWith("Ctrl+") ? "page" : "field";
    case "box":
      if (code === "Space") return "field";
      return leaving(code);
    case "range":
      if (RANGE_KEYS.includes(code)) return "field";
      return leaving(code);
    case "button":
      // Enter on a button is that button's; Space always plays.
      return code === "Enter" ? "field" : "page";
    default:
      return "page";
  }
}

/** @param {EventTarget | null} target @returns {Parameters<typeof ownerOf>[0]} */
export function focusedKind(target) {
  if (!(target instanceof HTMLElement)) return { kind: "none" };
  if (target instanceof HTMLSelectElement) return { kind: "choice" };
  if (target instanceof HTMLInputElement) {
    if (target.type === "checkbox" || target.type === "radio") return { kind: "box" };
    if (target.type === "range") return { kind: "range" };
    if (!["button", "submit"].includes(target.type))
      return { kind: "text", changed: target.value !== target.defaultValue };
  }
  if (target instanceof HTMLTextAreaElement || target.isContentEditable)
    return { kind: "text", changed: true };
  // On the place that is looked at, Enter takes what is proposed there.
  if (target.closest(".place.here")) return { kind: "place" };
  // On the arrival that sounds, Enter keeps it.
  if (target.closest("[data-arrival].here") && document.querySelector("#play.on")) return { kind: "place" };
  return { kind: target.closest("button, a, summary, [role=button]") ? "button" : "none" };
}

/**
 * @param {() => Map<string, (event: KeyboardEvent) => void>} on what each name does now
 * @param {() => boolean} singles whether single keys are on
 */
export function wireKeys(on, singles) {
  addEventListener("keydown", (event) => {
    if (event.altKey || event.isComposing) return;
    const name = nameOf(event),
      commands = on();
    const run = commands.get(name) ?? (event.shiftKey ? commands.get(name.replace("Shift+", "")) : undefined);
    const owner = ownerOf(focusedKind(event.target), name);
    if (owner.startsWith("leave") && event.target instanceof HTMLElement) event.target.blur();
    if (owner === "field" || owner === "leave" || !run) return;
    const single = !name.startsWith("Ctrl+") && /^(Shift\+)?(Key[A-Z]|Digit\d|\+|-|\?)$/.test(name);
    if (single && !singles()) return;
    event.preventDefault();
    run(event);
  });
  // Space on a focused button would also press it when it is let go.
  addEventListener("keyup", (event) => {
    if (event.code === "Space" && ["button", "place"].includes(focusedKind(event.target).kind))
      event.preventDefault();
  });
  // What was pressed with the pointer, or chosen, gives the keys back at once.
  addEventListener("click", (event) => {
    const button = event.target instanceof Element ? event.target.closest("button, a[data-station]") : null;
    if (event.detail > 0 && button instanceof HTMLElement) button.blur();
  });
  addEventListener("change", (event) => {
    if (event.target instanceof HTMLSelectElement) event.target.blur();
  });
  addEventListener("pointerup", () => {
    if (document.activeElement instanceof HTMLInputElement && document.activeElement.type === "range")
      document.activeElement.blur();
  });
}
