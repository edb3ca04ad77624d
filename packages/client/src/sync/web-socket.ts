import WebSocket from 'ws';

/** The WebSocket of a Node process: a package, until every Node has its own. */
export default WebSocket as unknown as typeof globalThis.WebSocket;
