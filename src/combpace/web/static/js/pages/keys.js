// @ts-check
// Keys, by their position, so that other layouts work. Single keys do nothing while a field is typed in and can be switched off.

/** Whether a key press belongs to a field. @param {EventTarget | null} target */
export function typing(target) {
  return target instanceof HTMLElement && (target.isContentEditable || target instanceof HTMLTextAreaElement || target instanceof HTMLSelectElement
    || (target instanceof HTMLInputElement && !["checkbox", "radio", "button", "range"].includes(target.type)));
}

/**
 * @param {Record<string, (event: KeyboardEvent) => void>} on by name: "KeyA", "Space", "Shift+Enter", "Ctrl+KeyZ" ...
 * @param {() => boolean} singles whether single keys are on
 */
export function wireKeys(on, singles) {
  addEventListener("keydown", (event) => {
    const held = `${event.ctrlKey || event.metaKey ? "Ctrl+" : ""}${event.shiftKey ? "Shift+" : ""}`;
    if (event.altKey || (event.isComposing)) return;
    const inField = typing(event.target);
    let name = held + event.code;
    if (event.key === "?") name = "?";
    if (["NumpadAdd"].includes(event.code) || event.key === "+") name = "+";
    if (["NumpadSubtract"].includes(event.code) || event.key === "-") name = "-";
    if (event.code.startsWith("Numpad") && /\d$/.test(event.code)) name = held + event.code.replace("Numpad", "Digit");
    if (event.code === "NumpadEnter") name = `${held}Enter`;
    const run = on[name] ?? (event.shiftKey ? on[`${event.ctrlKey || event.metaKey ? "Ctrl+" : ""}${event.code}`] : undefined);
    if (!run) return;
    if (inField && !held.startsWith("Ctrl") && event.code !== "Escape") return;
    // Undo inside a field that is being typed in is the field's own.
    if (inField && event.target instanceof HTMLInputElement && event.target.value !== event.target.defaultValue && held.startsWith("Ctrl")) return;
    const onControl = event.target instanceof Element && event.target.closest("button, a, summary, input, [role=button]");
    // Enter on a button or a link is that button's; Space always plays.
    if ((event.code === "Enter" || event.code === "NumpadEnter") && onControl) return;
    const single = !held.startsWith("Ctrl") && /^(Shift\+)?(Key[A-Z]|Digit\d|\+|-|\?)$/.test(name);
    if (single && !singles()) return;
    event.preventDefault();
    run(event);
  });
  // Space on a focused button would also press it when it is let go.
  addEventListener("keyup", (event) => { if (event.code === "Space" && !typing(event.target)) event.preventDefault(); });
}
