import { connect, createServer, type Server, type Socket } from 'node:net';

/** What stands between a client and the service. */
export type Weather =
  | 'clear'
  /** Upgrades are answered as if they were plain requests. */
  | 'no upgrades'
  /** Nothing of a stream is passed on before its end. */
  | 'buffering'
  /** Neither upgrades nor streams get through. */
  | 'no upgrades, buffering'
  /** Nobody answers. */
  | 'silent';

/** A network of the tests' own: passes bytes on, or does what bad proxies do. */
export class Network {
  weather: Weather = 'clear';
  /** Requests for each kind of connection that came. */
  readonly seen = { upgrades: 0, streams: 0, polls: 0 };
  readonly #sockets = new Set<Socket>();
  readonly #server: Server;
  url = '';

  constructor(readonly port: () => number) {
    this.#server = createServer((near) => this.#pass(near));
  }

  async listen(): Promise<this> {
    await new Promise<void>((r) => this.#server.listen(0, '127.0.0.1', r));
    this.url = `http://127.0.0.1:${(this.#server.address() as { port: number }).port}`;
    return this;
  }

  /** Cuts every connection there is. */
  cut(): void {
    for (const socket of this.#sockets) socket.destroy();
  }

  close(): void {
    this.#server.close();
    this.cut();
  }

  #pass(near: Socket): void {
    const far = connect(this.port(), '127.0.0.1');
    let stream = false;
    for (const [socket, other] of [
      [near, far],
      [far, near],
    ] as const) {
      this.#sockets.add(socket);
      socket.on('error', () => undefined);
      socket.on('close', () => {
        this.#sockets.delete(socket);
        other.destroy();
      });
    }
    near.on('data', (bytes) => {
      if (this.weather === 'silent') return;
      const text = bytes.toString('latin1');
      const isRequest = /^(GET|POST|DELETE|PUT) /.test(text);
      if (isRequest) stream = /accept: text\/event-stream/i.test(text);
      if (/upgrade: websocket/i.test(text)) {
        this.seen.upgrades++;
        if (this.weather.includes('no upgrades'))
          return void near.end('HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\nConnection: close\r\n\r\n');
      } else if (stream && isRequest) this.seen.streams++;
      else if (/accept: application\/json/i.test(text) && text.startsWith('GET /v1/live')) this.seen.polls++;
      far.write(bytes);
    });
    far.on('data', (bytes) => {
      if (this.weather === 'silent' || (stream && this.weather.includes('buffering'))) return;
      near.write(bytes);
    });
  }
}
