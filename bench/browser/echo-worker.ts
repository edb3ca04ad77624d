// The floor of everything that goes through a worker: it says back what it is told.
self.onmessage = ({ data }) => self.postMessage(data);
