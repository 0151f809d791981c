// @ts-check
// What the server tells while the page is open: jobs that moved, a session that was changed elsewhere.
import { listen } from "../api/client.js";

// What this page does itself arrives with its own answer first.
const OWN_ANSWER_MS = 600;

/** @param {any} desk */
export function hearNews(desk) {
  const { state, session, words, deciding, jobs } = desk;
  let heardFrom = false;
  listen(session, {
    jobs: (list) => {
      let ended = false;
      for (const job of list) {
        const before = jobs.get(job.id);
        jobs.set(job.id, job);
        if (job.state === "done") {
          jobs.delete(job.id);
          ended = true;
          if (job.kind === "handoff" && !document.getElementById("handoff"))
            words.say("The hand-off is ready: see Hand-off.");
        } else if (
          before?.state !== job.state ||
          (job.kind === "import" &&
            before?.phase !== job.phase &&
            desk.host.take(job.subject)?.state === "waiting")
        )
          ended = ended || job.state !== "queued";
      }
      desk.side.showJobs();
      if (ended) deciding.later();
    },
    version: (version) => {
      // What ended between the page's making and this first news is fetched now.
      if (!heardFrom) {
        heardFrom = true;
        if (
          state.picture.takes.some(
            (/** @type {import("../wire.js").TakeFacts} */ take) =>
              take.state === "waiting" || take.state === "listening",
          )
        )
          deciding.later();
      }
      if (words.savedNow() === "waiting for the server") words.saved("Saved");
      if (version <= state.picture.version || deciding.busy()) return;
      setTimeout(() => {
        // Where changes were refused the words say so already, and offer to apply them again.
        if (version <= state.picture.version || deciding.busy() || deciding.refused()) return;
        words.note("This session was changed in another page.", true);
        deciding.offer([["Show it", () => deciding.refresh().catch(words.trouble)]]);
      }, OWN_ANSWER_MS);
    },
    trouble: (text) =>
      text
        ? words.note(`${text} Reading and rendering wait until then.`, true)
        : words.say("Reading and rendering go on."),
    lost: () => words.saved("waiting for the server"),
  });
}
