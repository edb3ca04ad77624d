/** The WebSocket of a browser, and of any runtime that has its own. */
export default globalThis.WebSocket;
