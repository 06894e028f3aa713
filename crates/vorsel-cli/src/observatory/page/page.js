// The page of Skarn Hill: signs in, shows what the token says, and asks routes with it.

import { Session } from "/page/session.js";
import { ago, element, showClaims, showFindings, showLife } from "/page/token.js";
import { showAnswer, showRoutes, write } from "/page/routes.js";

const TOKEN = "/oauth/token";
const session = new Session({ client: "page", token: TOKEN, revoke: "/oauth/revoke" });
const at = (id) => document.getElementById(id);
const now = () => Date.now() / 1000;
// What the current token says, and the token that this was asked for.
let claims = null;
let tellTimes = () => {};
let shownFor = null;
let live = null;

function news(text, kind = "") {
  at("news").textContent = text;
  at("news").className = kind;
}

const post = (path, members) =>
  fetch(path, { method: "POST", body: new URLSearchParams(members), credentials: "include" });

// What a refused sign-in or renewal says, for people.
async function reasonOf(answer) {
  if (answer.status === 429) return `Too many wrong passwords. Come again in ${answer.headers.get("retry-after")} s.`;
  const body = await answer.json().catch(() => ({}));
  if (body.error === "invalid_grant") return "That is not the password.";
  return body.error_description ?? `${answer.status}: ${body.error ?? "something went wrong"}`;
}

function show(isIn) {
  const changes = document.querySelector(".out").hidden !== isIn;
  document.querySelectorAll(".in").forEach((part) => (part.hidden = !isIn));
  document.querySelectorAll(".out").forEach((part) => (part.hidden = isIn));
  // What had the focus is gone.
  if (changes && document.activeElement.closest("[hidden]")) at(isIn ? "token-heading" : "sign-in-heading").focus();
  if (isIn) return;
  live?.close();
  [claims, shownFor, live] = [null, null, null];
  at("who").textContent = "The observatory's API, and who may do what";
  at("replay-steps").replaceChildren();
}

// Everything that hangs on the token, asked for anew.
async function refresh() {
  if (!session.token && !(await session.renew())) return show(false);
  const told = await Promise.all(["/me/token", "/me/reach", "/oauth/sessions"].map((path) => session.fetch(path)));
  if (!session.token) return show(false);
  if (told.some((answer) => !answer.ok)) return news(`The API answers ${told.map((answer) => answer.status).join(", ")}.`, "bad");
  const [token, reach, sessions] = await Promise.all(told.map((answer) => answer.json()));
  claims = token.claims;
  shownFor = session.token;
  at("who").textContent = `${claims.sub}: ${reach.roles.join(", ") || "no roles"}`;
  tellTimes = showClaims(at("claims"), claims);
  showFindings(at("findings"), token.findings);
  const samples = { id: "exp-101", observer: claims.sub, person: claims.sub === "obs-0017" ? "ope-0002" : "obs-0017" };
  showRoutes(at("routes"), reach, samples, ask);
  showSessions(sessions.sessions);
  show(true);
  tick();
}

function tick() {
  if (!claims) return;
  tellTimes(now());
  showLife(at("life"), at("life-words"), claims, now());
}

async function ask({ method, path, body, isPale }, box) {
  // An event source would not say why it is refused.
  if (path === "/dome/live" && !isPale) return watch(box);
  const options = { method };
  if (body) [options.body, options.headers] = [JSON.stringify(body), { "content-type": "application/json" }];
  await showAnswer(box, await session.fetch(path, options));
  // It was renewed on the way.
  if (session.token && session.token !== shownFor) await refreshToken();
  if (!session.token) show(false);
}

// An event source can't send a header: it comes with a ticket, which is good once.
async function watch(box) {
  if (live) {
    live.close();
    live = null;
    return write(box, true, "closed", "the dome is not watched any more");
  }
  const form = new URLSearchParams({ path: "/dome/live" });
  const answer = await session.fetch("/oauth/ticket", { method: "POST", body: form });
  if (!answer.ok) return showAnswer(box, answer);
  const { ticket } = await answer.json();
  live = new EventSource(`/dome/live?ticket=${ticket}`);
  const close = (good, status, said) => {
    live?.close();
    live = null;
    write(box, good, status, said);
  };
  live.onmessage = (event) => write(box, true, "live", event.data, "asked again, it stops");
  live.addEventListener("over", (event) => close(false, "over", `the token does not stand any more: ${event.data}`));
  // It would come again with the same ticket, which is used up.
  live.onerror = () => close(false, "refused", "the dome is not yours to watch, or the connection is lost");
}

async function refreshToken() {
  const answer = await session.fetch("/me/token");
  if (!answer.ok) return;
  const token = await answer.json();
  claims = token.claims;
  shownFor = session.token;
  tellTimes = showClaims(at("claims"), claims);
  showFindings(at("findings"), token.findings);
  tick();
}

function showSessions(sessions) {
  const lines = sessions.map((known) => {
    const [line, what] = [element("li"), element("div", "what")];
    const name = `${known.device ?? "a device without a name"}, by ${known.client_id}`;
    const since = (text) => ago(now() - Date.parse(text) / 1000);
    what.append(name, element("small", "", `began ${since(known.started_at)}, renewed ${since(known.renewed_at)}`));
    line.append(what);
    if (known.is_this) {
      line.append(element("span", "hint", "this one"));
    } else {
      const button = element("button", "", "End");
      button.setAttribute("aria-label", `End ${name}`);
      button.addEventListener("click", () => end(`/oauth/sessions/${known.session}`, `Ended: ${name}.`));
      line.append(button);
    }
    return line;
  });
  at("sessions").replaceChildren(...lines);
  at("end-others").hidden = sessions.length < 2;
}

async function end(path, said) {
  const answer = await session.fetch(path, { method: "DELETE" });
  await refresh();
  news(answer.ok ? said : `That did not work: ${answer.status}.`, answer.ok ? "good" : "bad");
}

async function signIn(form, members) {
  const password = form.elements.password.value;
  form.elements.password.value = "";
  const device = navigator.userAgentData?.platform ?? navigator.platform;
  const answer = await post("/sign-in", { client_id: "page", device: `a page on ${device}`, password, ...members });
  if (!answer.ok) {
    news(await reasonOf(answer), "bad");
    return form.elements.password.focus();
  }
  session.began(await answer.json());
  await refresh();
  news("Signed in.", "good");
}

async function renewTwice() {
  const answers = await Promise.all([1, 2].map(() => post(TOKEN, { client_id: "page", grant_type: "refresh_token" })));
  const [last] = answers.filter((answer) => answer.ok).slice(-1);
  if (last) session.began(await last.json());
  await refresh();
  const statuses = answers.map((answer) => answer.status).join(" and ");
  const both = answers.every((answer) => answer.ok);
  news(`${statuses}: ${both ? "both got the same next refresh token, and the session goes on" : "not both were renewed"}.`, both ? "good" : "bad");
}

// No demo has a longer retry window than this, in seconds.
const LONGEST_WAIT = 60;
const pause = (seconds) => new Promise((done) => setTimeout(done, seconds * 1000));

// Signs in as a client that has its refresh token in hand, renews, and shows the spent one again: at once, and late.
async function replay(password) {
  const steps = at("replay-steps");
  steps.replaceChildren();
  const step = (what, answer, said) => {
    const [line, box] = [element("li", "", what), element("div")];
    write(box, answer.ok, String(answer.status), said);
    line.append(box);
    steps.append(line);
  };
  const desk = { client_id: "desk" };
  const renewal = async (token) => {
    const answer = await post(TOKEN, { ...desk, grant_type: "refresh_token", refresh_token: token });
    return [answer, await answer.json()];
  };
  const signedIn = await post("/sign-in", { ...desk, subject: claims.sub, password, device: "the replay" });
  if (!signedIn.ok) return news(await reasonOf(signedIn), "bad");
  const first = await signedIn.json();
  step("Sign in as desk", signedIn, "a refresh token in the body");
  const [renewed, second] = await renewal(first.refresh_token);
  step("Renew: the first refresh token is spent", renewed, "its successor");
  let [answer, body] = await renewal(first.refresh_token);
  step("Show it once more, as somebody does who lost the answer", answer, body.refresh_token === second.refresh_token ? "the very same successor" : "another one");
  for (let waited = 0; answer.ok && waited < LONGEST_WAIT; waited += 1) {
    news(`Waiting for the end of the retry window: ${waited} s.`);
    await pause(1);
    [answer, body] = await renewal(first.refresh_token);
  }
  news("");
  step("Show it when the retry window is over: a replay", answer, body.error ?? "it is still open");
  const [newest, said] = await renewal(second.refresh_token);
  step("Show the newest one: the session is over for everybody", newest, said.error ?? "it goes on");
  // Other instances hear of it within a moment.
  await pause(0.3);
  const used = await fetch("/me", { headers: { authorization: `Bearer ${second.access_token}` } });
  step("Use its access token", used, used.ok ? "it still stands" : (await used.json()).detail);
  await refresh();
}

// One thing at a time, and what goes wrong is told.
const when = (id, event, work) =>
  at(id).addEventListener(event, async (happened) => {
    happened.preventDefault();
    const focused = document.activeElement;
    const buttons = [...document.querySelectorAll("button")].filter((button) => !button.disabled);
    buttons.forEach((button) => (button.disabled = true));
    try {
      await work(happened.target);
    } catch (error) {
      news(`${error.message}. Try again.`, "bad");
    } finally {
      buttons.forEach((button) => (button.disabled = false));
      if (focused.isConnected && document.activeElement === document.body) focused.focus();
    }
  });

when("sign-in", "submit", (form) => signIn(form, { subject: form.elements.subject.value }));
when("again", "submit", (form) => signIn(form, { subject: claims.sub }));
when("renew", "click", async () => {
  const isIn = await session.renew();
  await refresh();
  news(isIn ? "Renewed." : "The session is over. Sign in again.", isIn ? "good" : "bad");
});
when("renew-twice", "click", renewTwice);
when("replay", "submit", async (form) => {
  const password = form.elements.password.value;
  form.elements.password.value = "";
  await replay(password);
});
when("end-others", "click", () => end("/oauth/sessions", "All others are ended."));
when("out-here", "click", async () => {
  const ended = await session.end();
  if (ended) show(false);
  news(ended ? "Signed out here." : "That did not work. You are still signed in.", ended ? "good" : "bad");
});
when("out-everywhere", "click", async () => {
  const others = await session.fetch("/oauth/sessions", { method: "DELETE" });
  const ended = others.ok && (await session.end());
  if (ended) show(false);
  news(ended ? "Signed out everywhere." : "That did not work. You are still signed in.", ended ? "good" : "bad");
});

setInterval(tick, 1000);
// A reload finds the session by its cookie; nobody is signed in if there is none.
refresh().catch((error) => {
  show(false);
  news(`${error.message}. Try again.`, "bad");
});
