// @ts-check
// The wire. Nothing here touches the page.

export class Refusal extends Error {
  /**
   * offers: decisions after which what was refused may be tried again.
   * @param {string} text
   * @param {number} status
   * @param {{newest?: number, parts?: string[], offers?: {words: string, do: string, args: any}[]}} [extra]
   */
  constructor(text, status, extra = {}) {
    super(text);
    this.status = status;
    this.newest = extra.newest;
    this.parts = extra.parts ?? [];
    this.offers = extra.offers ?? [];
  }
}

/** @param {string} path @param {RequestInit} [options] @returns {Promise<Response>} */
async function ask(path, options) {
  let response;
  try {
    response = await fetch(path, {
      headers: { Accept: "application/json", ...options?.headers },
      ...options,
    });
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new Refusal("The server does not answer. What was kept is kept; start it again and reload.", 0);
  }
  if (response.ok) return response;
  /** @type {any} */
  let body = {};
  try {
    body = await response.json();
  } catch {
    /* a refusal of the guard is plain text */
  }
  throw new Refusal(
    body.error ?? `The server refused this (${response.status}). Nothing was changed.`,
    response.status,
    body,
  );
}

/** @param {string} path @param {unknown} body @param {string} [method] @returns {Promise<any>} */
export async function send(path, body, method = "POST") {
  const response = await ask(path, {
    method,
    body: JSON.stringify(body),
    headers: { "Content-Type": "application/json", Accept: "application/json" },
  });
  return response.json();
}

/** @param {string} path @param {Blob} bytes @returns {Promise<any>} */
export async function sendBytes(path, bytes) {
  return (
    await ask(path, {
      method: "PUT",
      body: bytes,
      headers: { "Content-Type": "application/octet-stream", Accept: "application/json" },
    })
  ).json();
}

/** @param {string} path @returns {Promise<any>} */
export async function get(path) {
  return (await ask(path)).json();
}

/** @param {string} path @returns {Promise<string>} */
export async function html(path) {
  return (await ask(path, { headers: { Accept: "text/html" } })).text();
}

/** @param {string} path @param {unknown} body @returns {Promise<string>} */
export async function htmlOf(path, body) {
  return (
    await ask(path, {
      method: "POST",
      body: JSON.stringify(body),
      headers: { "Content-Type": "application/json", Accept: "text/html" },
    })
  ).text();
}

/**
 * @param {string} path
 * @param {AbortSignal} [signal]
 * @returns {Promise<{data: ArrayBuffer, headers: Headers}>}
 */
export async function binary(path, signal) {
  const response = await ask(path, { signal });
  return { data: await response.arrayBuffer(), headers: response.headers };
}

/**
 * One file to a session, with progress.
 * @param {string} session
 * @param {File} file
 * @param {(share: number) => void} onProgress
 * @returns {Promise<string>} the take's id
 */
export function upload(session, file, onProgress) {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("PUT", `/api/sessions/${session}/uploads?name=${encodeURIComponent(file.name)}`);
    request.responseType = "json";
    request.setRequestHeader("Accept", "application/json");
    request.upload.onprogress = (event) => event.lengthComputable && onProgress(event.loaded / event.total);
    request.onload = () =>
      request.status < 300
        ? resolve(request.response.take)
        : reject(
            new Refusal(
              request.response?.error ?? `“${file.name}” was refused (${request.status}).`,
              request.status,
            ),
          );
    request.onerror = () =>
      reject(
        new Refusal(
          `“${file.name}” did not arrive: the connection ended. Nothing was imported; drop it again.`,
          0,
        ),
      );
    request.send(file);
  });
}

/**
 * Server-sent events of a session.
 * @param {string} session
 * @param {{jobs: (jobs: any[]) => void, version: (version: number) => void, trouble: (text: string) => void,
 *   lost: () => void}} on
 * @returns {() => void} ends it
 */
export function listen(session, on) {
  const source = new EventSource(`/api/sessions/${session}/events`);
  source.addEventListener("jobs", (event) => on.jobs(JSON.parse(event.data)));
  source.addEventListener("version", (event) => on.version(Number(event.data)));
  source.addEventListener("trouble", (event) => on.trouble(JSON.parse(event.data)));
  source.onerror = () => on.lost();
  return () => source.close();
}
