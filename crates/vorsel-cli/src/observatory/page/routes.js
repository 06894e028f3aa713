// The observatory's routes, each with something to send.

import { element } from "/page/token.js";

const routes = [
  ["GET", "/me"],
  ["GET", "/exposures"],
  ["POST", "/exposures"],
  ["GET", "/exposures/{id}"],
  ["DELETE", "/exposures/{id}"],
  ["GET", "/dome"],
  ["POST", "/dome"],
  ["POST", "/dome/override"],
  ["GET", "/dome/live"],
  ["GET", "/night-log"],
  ["POST", "/night-log"],
  ["POST", "/weather"],
  ["GET", "/observers/{observer}/proposals"],
  ["GET", "/people/{person}/roles"],
  ["PUT", "/people/{person}/roles", ["operator"]],
];

const HANGS = { "sign-in": "after a fresh sign-in", path: "if it is yours", check: "if a check says so" };

// What the caller's reach says of a route.
function reachOf(reach, method, path) {
  const found = reach.routes.find((route) => route.path === path && route.method === method);
  if (!found) return ["pale", "out of reach"];
  if (!found.hangs_on) return ["", "yes"];
  return ["hangs", found.hangs_on.map((what) => HANGS[what] ?? what).join(", ")];
}

// Each method of a reach by itself.
const spread = (reach) => ({
  ...reach,
  routes: reach.routes.flatMap((route) => [route.method].flat().map((method) => ({ ...route, method }))),
});

export function showRoutes(list, reach, samples, ask) {
  const known = spread(reach);
  list.replaceChildren(
    ...routes.map(([method, path, body]) => {
      const [className, words] = reachOf(known, method, path);
      const filled = path.replace(/\{(\w+)\}/g, (_, name) => samples[name]);
      const [line, button, answer] = [element("li", className), element("button", "mono"), element("div", "answer")];
      answer.hidden = true;
      answer.setAttribute("aria-live", "polite");
      button.append(element("span", "method", method), element("span", "path", filled), element("span", "reach", words));
      button.addEventListener("click", () => ask({ method, path: filled, body, isPale: className === "pale" }, answer));
      line.append(button, answer);
      return line;
    }),
  );
}

// The answer to a request, with its reason: what the problem says, and what the challenge asks for.
export async function showAnswer(box, response) {
  const text = await response.text();
  let said = text;
  let extra = "";
  if (!response.ok && text) {
    const problem = JSON.parse(text);
    said = problem.detail ?? problem.title ?? text;
    const challenge = response.headers.get("www-authenticate") ?? "";
    const asks = [...challenge.matchAll(/(error|scope|max_age|acr_values)="([^"]*)"/g)].map(([, name, value]) => `${name}: ${value}`);
    extra = asks.join(" · ");
  }
  write(box, response.ok, String(response.status), said, extra);
}

export function write(box, good, status, said, extra = "") {
  box.hidden = false;
  box.className = `answer ${good ? "good" : "bad"}`;
  box.replaceChildren(element("span", "status", status), " ", element("span", "mono", said));
  if (extra) box.append(element("div", "hint", extra));
}
