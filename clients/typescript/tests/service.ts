import { type ChildProcess, spawn } from 'node:child_process';
import { createHmac } from 'node:crypto';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';

const root = resolve(import.meta.dirname, '../../../..');

/** Asks until it holds. */
export async function eventually<T>(
  look: () => T | Promise<T>,
  what: string | (() => string),
  seconds = 15,
): Promise<NonNullable<T>> {
  const end = Date.now() + seconds * 1000;
  for (;;) {
    const seen = await look();
    if (seen) return seen;
    if (Date.now() > end) throw new Error(`not within ${seconds} s: ${typeof what === 'string' ? what : what()}`);
    await new Promise((r) => setTimeout(r, 10));
  }
}

/** The real service on loopback, on a folder of its own. */
export class Service {
  #process: ChildProcess | undefined;
  folder = mkdtempSync(join(tmpdir(), 'rovett-client-'));
  url = '';
  key = '';
  secret = '';

  get port(): number {
    return Number(new URL(this.url).port);
  }

  async start(port = 0): Promise<this> {
    const ready = join(this.folder, `ready-${Date.now()}.json`);
    const args = [
      'serve',
      '--port',
      String(port),
      '--data',
      join(this.folder, 'data'),
      '--ready-file',
      ready,
      '--log',
      'error',
    ];
    const intakes = join(this.folder, 'intakes.yaml');
    if (existsSync(intakes)) args.push('--intakes', intakes);
    this.#process = spawn('dotnet', [join(root, '.build/cli/rovett.dll'), ...args, '--come-back-within-ms', '300'], {
      stdio: 'ignore',
    });
    await eventually(() => existsSync(ready) && readFileSync(ready, 'utf8').endsWith('}'), 'the service is ready', 60);
    const made = JSON.parse(readFileSync(ready, 'utf8'));
    this.url = made.url;
    if (made.credentials) {
      this.key = made.credentials.adminKey;
      this.secret = made.credentials.tokenSigningSecret;
    }
    return this;
  }

  async stop(signal: NodeJS.Signals = 'SIGTERM'): Promise<void> {
    const process = this.#process;
    this.#process = undefined;
    if (!process || process.exitCode !== null) return;
    const ended = new Promise((r) => process.once('exit', r));
    process.kill(signal);
    await ended;
  }

  /** Stops it as a crash would, and starts it again where it was. */
  async crash(): Promise<void> {
    await this.stop('SIGKILL');
    await this.start(this.port);
  }

  async end(): Promise<void> {
    await this.stop('SIGKILL');
    rmSync(this.folder, { recursive: true, force: true });
  }

  token(user: string, roles: string[] = [], seconds = 3600, secret = this.secret): string {
    const now = Date.now() / 1000;
    const part = (value: object) => Buffer.from(JSON.stringify(value)).toString('base64url');
    const signed = `${part({ alg: 'HS256', typ: 'JWT' })}.${part({ sub: user, roles, iat: now - 1, exp: now + seconds })}`;
    return `${signed}.${createHmac('sha256', secret).update(signed).digest('base64url')}`;
  }

  async call(method: string, path: string, body?: object): Promise<Record<string, unknown>> {
    const answer = await fetch(this.url + path, {
      method,
      headers: { Authorization: `Bearer ${this.key}`, 'Content-Type': 'application/json' },
      body: body && JSON.stringify(body),
    });
    if (!answer.ok) throw new Error(`${method} ${path} was answered ${answer.status}: ${await answer.text()}`);
    return answer.status === 204 ? {} : ((await answer.json()) as Record<string, unknown>);
  }

  /** Sends, and gives the id. */
  async send(to: string, title: string, more: object = {}): Promise<string> {
    return (await this.call('POST', '/v1/notifications', { to: [to], type: 'engine.check.due', title, ...more }))
      .id as string;
  }
}
