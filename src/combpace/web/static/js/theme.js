// Sets day or night before anything is drawn; runs as a plain script in the head.
(() => {
  const kept = (() => {
    try {
      return localStorage.getItem("theme");
    } catch {
      return null;
    }
  })();
  const dark = kept ? kept === "night" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = dark ? "night" : "day";
  addEventListener("click", (event) => {
    if (!(event.target instanceof Element) || !event.target.closest("[data-theme-switch]")) return;
    const next = document.documentElement.dataset.theme === "night" ? "day" : "night";
    document.documentElement.dataset.theme = next;
    try {
      localStorage.setItem("theme", next);
    } catch {
      /* private window: the choice lasts for this page */
    }
    dispatchEvent(new CustomEvent("theme"));
  });
})();
