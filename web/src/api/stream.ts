// What the stream of events gives a page that has just been opened, so that it need not ask for it.

/** A page does not wait longer for it than this, in ms: then it asks. */
const PATIENCE_MS = 300;

/** The beginning of a stream: what every page has, as it was given last to those that are open. */
export class Stream {
  private given = new Map<string, unknown>();
  private begun = false;
  private waiting: (() => void)[] = [];

  /** Something is given; true while the stream has not begun, and it is kept for who asks. */
  give(key: string, body: unknown): boolean {
    if (this.begun) {
      this.given.delete(key); // what was given at the beginning is old by now
      return false;
    }
    this.given.set(key, body);
    return true;
  }

  /** It is up, and these were given with it. */
  begin(keys: readonly string[]): void {
    this.begun = true;
    for (const key of this.given.keys()) if (!keys.includes(key)) this.given.delete(key);
    for (const go of this.waiting.splice(0)) go();
  }

  /** The answer by this name as it is given, once; `ask` where none is given in time. */
  async first<T>(key: string, ask: () => Promise<T>): Promise<T> {
    if (!this.begun)
      await new Promise<void>((go) => {
        this.waiting.push(go);
        setTimeout(go, PATIENCE_MS);
      });
    const body = this.given.get(key);
    this.given.delete(key);
    return body === undefined ? ask() : (body as T);
  }
}

/** The stream of this page. */
export const stream = new Stream();
