// One funnel for whatever goes wrong: what the server refuses, what does not arrive, what our own code throws.

const SHOWN = 9000; // ms that a sentence stays
const TRIES = 6;
const FIRST_PAUSE = 400; // ms before the second try; each pause is twice as long as the one before

// What the server refused (status) or did not answer at all (status 0), in a sentence for the surveyor.
export class Refusal extends Error {
  constructor(message, status) {
    super(message);
    this.status = status;
  }

  // Whether asking once more may help.
  get passing() {
    return this.status === 0 || this.status === 409 || this.status === 429 || this.status >= 500;
  }
}

const unanswered = () => new Refusal("The server does not answer. Is it still running?", 0);

// Ask the server for a part of the page, which takes its place at once.
export function fetchPart(method, url, how) {
  return window.htmx.ajax(method, url, how).catch(() => {
    throw unanswered();
  });
}

// Ask the server: the answer, or a Refusal in its words. `json` is sent as such.
export async function ask(url, /** @type {RequestInit & { json?: unknown }} */ { json, ...how } = {}) {
  const sent =
    json === undefined
      ? {}
      : { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(json) };
  let answer;
  try {
    answer = await fetch(url, { ...sent, ...how });
  } catch {
    throw unanswered();
  }
  if (answer.ok) return answer;
  const said = await answer.json().catch(() => ({ message: `The server answers ${answer.status}.` }));
  throw new Refusal([said.message, said.hint].filter(Boolean).join(" "), answer.status);
}

// Try again, with longer and longer pauses, what may only be passing; then throw what went wrong last.
export async function again(work, { tries = TRIES, pause = FIRST_PAUSE, between = (_error) => {} } = {}) {
  for (let k = 1; ; k++) {
    try {
      return await work();
    } catch (error) {
      if (k >= tries || !(error instanceof Refusal) || !error.passing) throw error;
      between(error);
      await new Promise((done) => setTimeout(done, pause * 2 ** (k - 1)));
    }
  }
}

// A sentence for the surveyor, for a while; the same one is not said twice at a time.
export function notice(message) {
  const host = document.getElementById("notices");
  if ([...host.children].some((there) => there.textContent === message)) return;
  const div = document.createElement("div");
  div.className = "alert alert-danger notice";
  div.textContent = message;
  host.append(div);
  setTimeout(() => div.remove(), SHOWN);
}

// Say what went wrong: in the server's words, or that it was our own fault, with the words for whoever mends it on the console.
export function tell(error) {
  if (error instanceof Refusal) return notice(error.message);
  console.error(error);
  notice(
    `Something in this page went wrong (${error?.message ?? error}). Nothing of the job is lost; load the page anew.`,
  );
}

// Whatever nobody caught ends here.
export function wireTrouble() {
  window.addEventListener("unhandledrejection", (e) => {
    e.preventDefault();
    tell(e.reason);
  });
  window.addEventListener("error", (e) => e.error && tell(e.error));
}
