/** The application did not answer: it is away, and asked again until it is back. */
export class Away extends Error {
  constructor() {
    super("The application does not answer.");
  }
}

const AGAIN_AFTER_MS = 1500;
const SIGNED_OUT = 401;
const ASKED = "/api/jobs";

/** Whether the application answers. While it does not, it is asked again and again; what waits for it goes on by
 * itself once it is back. */
class Connection {
  away = $state(false);
  /** Counts the returns: what depends on it is asked for again. */
  returns = $state(0);
  private waiting: (() => void)[] = [];

  /** Fetch as the browser does; where nothing answers, `Away` is thrown and the asking begins. */
  fetch: typeof fetch = async (input, init) => {
    try {
      const answer = await fetch(input, init);
      if (answer.status === SIGNED_OUT)
        location.assign(`/sign-in/?next=${encodeURIComponent(location.pathname)}`);
      return answer;
    } catch (error) {
      if (error instanceof TypeError) {
        this.lost();
        throw new Away();
      }
      throw error;
    }
  };

  /** Do something once the application is back. */
  afterwards(work: () => void): void {
    this.waiting.push(work);
  }

  private lost(): void {
    if (this.away) return;
    this.away = true;
    this.later();
  }

  private later(): void {
    setTimeout(() => {
      fetch(ASKED, { method: "GET" }).then(
        (answer) => (answer.status < 500 ? this.back() : this.later()),
        () => this.later(),
      );
    }, AGAIN_AFTER_MS);
  }

  private back(): void {
    this.away = false;
    this.returns++;
    const waiting = this.waiting.splice(0);
    for (const work of waiting) work();
  }
}

export const connection = new Connection();
