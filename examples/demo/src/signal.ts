import { connect, createServer, type Server, type Socket } from 'node:net';

/** A phone's signal: the way to the server through a port of its own, which can be closed and opened again. */
export class Signal {
  private readonly sockets = new Set<Socket>();
  private readonly server: Server;
  private port = 0;
  /** Uploads reach the server, and their replies do not reach the phone. */
  losesReplies = false;

  private constructor(target: URL) {
    this.server = createServer((phone) => {
      const onward = connect(Number(target.port), target.hostname);
      for (const socket of [phone, onward]) {
        this.sockets.add(socket);
        // Either end may vanish at any time: then both do.
        socket.on('error', () => undefined);
        socket.on('close', () => {
          this.sockets.delete(socket);
          phone.destroy();
          onward.destroy();
        });
      }
      let isUpload = false;
      phone.on('data', (part) => {
        isUpload ||= part.includes('/v1/push');
      });
      onward.on('data', () => {
        if (isUpload && this.losesReplies) phone.destroy();
      });
      phone.pipe(onward).pipe(phone);
    });
  }

  static async to(url: string): Promise<Signal> {
    const signal = new Signal(new URL(url));
    await signal.on();
    return signal;
  }

  get url(): string {
    return `http://127.0.0.1:${this.port}`;
  }

  on(): Promise<void> {
    return new Promise((done, fail) => {
      this.server.once('error', fail).listen(this.port, '127.0.0.1', () => {
        this.port = (this.server.address() as { port: number }).port;
        done();
      });
    });
  }

  off(): Promise<void> {
    return new Promise((done) => {
      this.server.close(() => done());
      for (const socket of this.sockets) socket.destroy();
    });
  }
}
