// A session of a page, for endpoints that keep the refresh token in a cookie. Copy it; it needs nothing else.
//
//     const session = new Session({ client: "page", token: "/oauth/token", revoke: "/oauth/revoke" });
//     const answer = await session.fetch("/me");        // renewed when it has to be, and asked once more after invalid_token
//
// The access token lives in memory alone: a script that is slipped into the page can use it, but not carry a session away. Any number of
// calls wait for one renewal, and tabs take turns, so that none of them spends what another one holds.

export class Session {
  #access = null;
  #renewal = null;
  // Whether it is known that nobody is signed in: then nothing is renewed until somebody signs in, or a renewal is asked for.
  #isOut = false;
  #options;

  constructor(options) {
    this.#options = { lock: "session-renewal", ...options };
  }

  // The access token, or null while nobody is signed in.
  get token() {
    return this.#access;
  }

  // What the sign-in endpoint has answered.
  began(answer) {
    this.#access = answer.access_token;
    this.#isOut = false;
  }

  // One renewal for however many ask. Says whether somebody is signed in; throws if that can't be told now.
  renew() {
    this.#renewal ??= this.#oneTabAtATime(() => this.#renewOnce()).finally(() => (this.#renewal = null));
    return this.#renewal;
  }

  async #oneTabAtATime(work) {
    return navigator.locks ? navigator.locks.request(this.#options.lock, work) : work();
  }

  async #renewOnce() {
    const answer = await this.#post(this.#options.token, { grant_type: "refresh_token" });
    if (answer.ok) {
      this.began(await answer.json());
      return true;
    }
    this.#access = null;
    // Nobody is signed in, or the session is over. Anything else may pass, and is for the caller to show.
    this.#isOut = answer.status === 400;
    if (this.#isOut) return false;
    throw new Error(`the session can't be renewed now: ${answer.status}`);
  }

  // As fetch. Without a token it renews first; after invalid_token it renews and asks once more, after nothing else.
  async fetch(resource, options = {}) {
    if (!this.#access && !this.#isOut) await this.renew();
    if (!this.#access) return this.#ask(resource, options);
    const spent = this.#access;
    const answer = await this.#ask(resource, options);
    const challenge = answer.headers.get("www-authenticate") ?? "";
    if (answer.status !== 401 || !challenge.includes('error="invalid_token"')) return answer;
    // Another call may have renewed meanwhile.
    const renewed = this.#access !== spent || (await this.renew());
    return renewed ? this.#ask(resource, options) : answer;
  }

  // Signs out here. The cookie goes with the answer.
  async end() {
    const answer = await this.#post(this.#options.revoke, {});
    if (answer.ok) [this.#access, this.#isOut] = [null, true];
    return answer.ok;
  }

  #ask(resource, options) {
    const headers = new Headers(options.headers);
    if (this.#access) headers.set("authorization", `Bearer ${this.#access}`);
    return fetch(resource, { ...options, headers });
  }

  #post(address, members) {
    const body = new URLSearchParams({ client_id: this.#options.client, ...members });
    return fetch(address, { method: "POST", body, credentials: "include" });
  }
}
