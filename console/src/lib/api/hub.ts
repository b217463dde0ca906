/**
 * One connection to the server for everything that is followed. A browser has six to a server (HTTP/1.1), which
 * three tabs with two streams each would use up.
 */

/** An event of a stream: its kind, and its data. */
export type Deliver = (kind: string, data: unknown) => void;
/** Told whether the connection stands. */
export type OnState = (up: boolean) => void;

/** What the hub needs of an EventSource. */
export type Source = {
    onopen: ((event: Event) => void) | null;
    onerror: ((event: Event) => void) | null;
    onmessage: ((event: MessageEvent<string>) => void) | null;
    close(): void;
};

type Followed = { topic: string; after: string; deliver: Deliver; onState: OnState; up: boolean | undefined };
type SharedEvent = { key: string; kind: string; id: string; data: unknown };

/** The kinds of events after which nothing comes. */
const LAST = new Set(['end', 'refused']);

export class Hub {
    private readonly followed = new Map<string, Followed>();
    private source: Source | undefined;
    private next = 0;
    private timer: unknown;

    /** `wait` calls later; it is given so that tests need not wait. */
    constructor(
        private readonly open: (url: string) => Source,
        private readonly wait: (then: () => void, millis: number) => unknown = (then, millis) => setTimeout(then, millis),
        private readonly cancel: (timer: unknown) => void = (timer) => clearTimeout(timer as number),
    ) {}

    /** Follows a stream (`runs`, `run/PROJECT/NUMBER`, `log/PROJECT/NUMBER/STAGE~JOB`) until the answer is called. */
    follow(topic: string, deliver: Deliver, onState: OnState): () => void {
        const key = `s${this.next++}`;
        this.followed.set(key, { topic, after: '', deliver, onState, up: undefined });
        this.connectSoon(0);
        return () => {
            if (this.followed.delete(key)) this.connectSoon(0);
        };
    }

    /** Several changes at once are one new connection. */
    private connectSoon(millis: number): void {
        this.cancel(this.timer);
        this.timer = this.wait(() => this.connect(), millis);
    }

    private connect(): void {
        this.source?.close();
        this.source = undefined;
        if (this.followed.size === 0) return;
        const query = new URLSearchParams();
        for (const [key, { topic, after }] of this.followed) query.append(key, `${topic}@${after}`);
        const source = this.open(`/api/v1/stream?${query}`);
        this.source = source;
        source.onopen = () => this.tell(true);
        source.onerror = () => {
            // Not left to the browser: it would ask for what was seen already.
            this.tell(false);
            this.connectSoon(1000);
        };
        source.onmessage = ({ data }) => {
            const event = JSON.parse(data) as SharedEvent;
            const follower = this.followed.get(event.key);
            if (!follower) return;
            follower.after = event.id;
            if (LAST.has(event.kind)) this.followed.delete(event.key);
            follower.deliver(event.kind, event.data);
        };
    }

    private tell(up: boolean): void {
        // A new connection because somebody follows more is no news to the others.
        for (const follower of [...this.followed.values()].filter((one) => one.up !== up)) {
            follower.up = up;
            follower.onState(up);
        }
    }
}
