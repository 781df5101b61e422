/** The network of a test. It stands before the console is loaded, whose client keeps what it finds then. */
type Fetch = (request: Request) => Promise<Response>;

export const realFetch = globalThis.fetch;
let current: Fetch = () => Promise.reject(new TypeError("no network"));

/** setNetwork says who answers. */
export function setNetwork(to: Fetch) {
  current = to;
}

/** Outside a browser a Request has no page that its address could be relative to. */
class PageRequest extends Request {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(input instanceof Request ? input : new URL(String(input), location.href), {
      ...init,
      signal: null, // that of jsdom is not that of Node.js
    });
  }
}
globalThis.Request = PageRequest;
globalThis.fetch = (input, init) => current(new PageRequest(input, init));
