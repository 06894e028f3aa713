// How an access token is shown: what it says, what was found, and how long it has still to live. Never the token itself.

export const element = (name, className, text) => {
  const made = document.createElement(name);
  if (className) made.className = className;
  if (text !== undefined) made.textContent = text;
  return made;
};

const UNITS = [["day", 86400], ["hour", 3600], ["minute", 60], ["second", 1]];

// 254 is "4 minutes 14 seconds", as one would say it.
export function spoken(seconds) {
  let rest = Math.max(0, Math.round(seconds));
  if (rest === 0) return "no time";
  const parts = [];
  for (const [unit, size] of UNITS) {
    const count = Math.floor(rest / size);
    rest %= size;
    if (count > 0) parts.push(`${count} ${unit}${count === 1 ? "" : "s"}`);
    if (parts.length === 2) break;
  }
  return parts.join(" ");
}

export const ago = (seconds) => (seconds < 1 ? "just now" : `${spoken(seconds)} ago`);

const TIMES = { exp: ["expired", "expires"], nbf: ["valid since", "valid"], iat: ["issued", "issued"], auth_time: ["signed in", "signed in"] };

function when(name, value, now) {
  const [before, after] = TIMES[name];
  const span = Math.round(Math.abs(now - value));
  if (span === 0) return `${value <= now ? before : after} just now`;
  return value <= now ? `${before} ${spoken(span)} ago` : `${after} in ${spoken(span)}`;
}

const clock = (seconds) => new Date(seconds * 1000).toISOString().replace(".000Z", "Z");

// The claims. What it returns says of each time among them how long ago it was, or how long it takes, at a moment.
export function showClaims(list, claims) {
  const times = [];
  list.replaceChildren(
    ...Object.entries(claims).flatMap(([name, value]) => {
      const isTime = name in TIMES && typeof value === "number";
      const text = isTime ? clock(value) : typeof value === "string" ? value : JSON.stringify(value);
      const shown = element("dd", "mono", text);
      if (isTime) {
        const words = element("small");
        shown.append(words);
        times.push((now) => (words.textContent = when(name, value, now)));
      }
      return [element("dt", "mono", name), shown];
    }),
  );
  return (now) => times.forEach((tell) => tell(now));
}

export function showFindings(list, findings) {
  list.replaceChildren(
    ...findings.map((finding) => {
      const line = element("li", finding.held ? "" : "failed");
      const mark = element("span", "mark", finding.held ? "✓" : "✗");
      mark.setAttribute("aria-label", finding.held ? "holds" : "does not hold");
      const found = finding.held ? finding.found : `expected ${finding.expected}, but found ${finding.found}`;
      line.append(mark, element("span", "", finding.check.replaceAll("-", " ")), element("span", "found", found));
      return line;
    }),
  );
}

// The bar, and the same in words.
export function showLife(bar, words, claims, now) {
  const [left, whole] = [claims.exp - now, claims.exp - claims.iat];
  bar.setAttribute("aria-valuemax", whole);
  bar.setAttribute("aria-valuenow", Math.max(0, Math.round(left)));
  bar.firstElementChild.style.width = `${Math.max(0, Math.min(1, left / whole)) * 100}%`;
  bar.className = left <= 0 ? "over" : left < whole / 5 ? "short" : "";
  const text = left > 0 ? `${spoken(left)} left of ${spoken(whole)}` : `Over for ${spoken(-left)}; the next call renews it`;
  bar.setAttribute("aria-valuetext", text);
  words.textContent = text;
}
