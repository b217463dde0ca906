/** Colours of terminals (ECMA-48, 8.3.117, "SGR"), as styles of pieces of text. */

export type Piece = { text: string; style: string };

/** Sixteen colours that can be read on the log's dark ground. */
const COLOURS = [
    '#5b7a7c', '#f08a55', '#4fb9a6', '#e2b752', '#6db1ea', '#c79ad6', '#6cc5d0', '#dfe7e3',
    '#86a0a0', '#ffab7d', '#7fd6c4', '#f3d486', '#9accf5', '#deb9ea', '#9adde5', '#ffffff',
];

type Pen = { fg?: string; bg?: string; bold?: boolean; dim?: boolean; italic?: boolean; underline?: boolean };

function indexed(index: number): string | undefined {
    if (index < 16) return COLOURS[index];
    if (index >= 232) {
        const grey = 8 + (index - 232) * 10;
        return `rgb(${grey},${grey},${grey})`;
    }
    const level = (step: number) => (step === 0 ? 0 : 55 + step * 40);
    const cube = index - 16;
    return `rgb(${level(Math.floor(cube / 36))},${level(Math.floor(cube / 6) % 6)},${level(cube % 6)})`;
}

function apply(pen: Pen, codes: number[]): Pen {
    let next = { ...pen };
    for (let at = 0; at < codes.length; at++) {
        const code = codes[at] ?? 0;
        if (code === 0) next = {};
        else if (code === 1) next.bold = true;
        else if (code === 2) next.dim = true;
        else if (code === 3) next.italic = true;
        else if (code === 4) next.underline = true;
        else if (code === 22) next.bold = next.dim = false;
        else if (code === 23) next.italic = false;
        else if (code === 24) next.underline = false;
        else if (code >= 30 && code <= 37) next.fg = COLOURS[code - 30];
        else if (code >= 90 && code <= 97) next.fg = COLOURS[code - 82];
        else if (code === 39) next.fg = undefined;
        else if (code >= 40 && code <= 47) next.bg = COLOURS[code - 40];
        else if (code >= 100 && code <= 107) next.bg = COLOURS[code - 92];
        else if (code === 49) next.bg = undefined;
        else if (code === 38 || code === 48) {
            let colour: string | undefined;
            if (codes[at + 1] === 5) {
                colour = indexed(codes[at + 2] ?? 0);
                at += 2;
            } else if (codes[at + 1] === 2) {
                colour = `rgb(${codes.slice(at + 2, at + 5).join(',')})`;
                at += 4;
            }
            if (code === 38) next.fg = colour;
            else next.bg = colour;
        }
    }
    return next;
}

function style(pen: Pen): string {
    const parts: string[] = [];
    if (pen.fg) parts.push(`color:${pen.fg}`);
    if (pen.bg) parts.push(`background:${pen.bg}`);
    if (pen.bold) parts.push('font-weight:600');
    if (pen.dim) parts.push('opacity:.65');
    if (pen.italic) parts.push('font-style:italic');
    if (pen.underline) parts.push('text-decoration:underline');
    return parts.join(';');
}

/**
 * A line as a terminal shows it in the end: what a carriage return went back over and what was written over it are
 * gone, and so is what was erased (ECMA-48, 8.3.41, "EL"). Other sequences stay where they are.
 */
export function finalLine(text: string): string {
    const line = text.replace(/\r+$/, '');
    if (!line.includes('\r')) return line;
    const cells: string[] = [];
    let column = 0;
    let pending = '';
    // eslint-disable-next-line no-control-regex
    for (const [part] of line.matchAll(/\x1b\[[0-?]*[ -/]*[@-~]|[^]/gu)) {
        if (part === '\r') column = 0;
        else if (part === '\x1b[K' || part === '\x1b[0K') cells.length = Math.min(cells.length, column);
        else if (part === '\x1b[2K') cells.length = 0;
        else if (part.length > 1 && part.startsWith('\x1b[')) pending += part;
        else {
            while (cells.length < column) cells.push(' ');
            cells[column++] = pending + part;
            pending = '';
        }
    }
    return cells.join('') + pending;
}

/**
 * Reads a log piece by piece into lines; colours go on from one line to the next. However long the log is, only its
 * last lines are kept.
 */
export class AnsiReader {
    private lines: Piece[][] = [];
    private dropped = 0;
    private pen: Pen = {};
    private rest = '';

    /** `most` lines are kept at the end. */
    constructor(private readonly most: number) {}

    /** Adds text. The last line stays open until its end comes. */
    feed(text: string): void {
        const whole = (this.rest + text).split('\n');
        this.rest = whole.pop() ?? '';
        for (const line of whole) this.lines.push(this.line(line));
        // In large pieces: each line is moved once at the most.
        if (this.lines.length > 2 * this.most) {
            const old = this.lines.length - this.most;
            this.dropped += old;
            this.lines = this.lines.slice(old);
        }
    }

    /** How many lines there were, with the one that has no end yet. */
    get count(): number {
        return this.dropped + this.lines.length + (this.rest ? 1 : 0);
    }

    /** The last lines, with the one that has no end yet. */
    tail(): Piece[][] {
        const open = this.open();
        return open ? [...this.lines.slice(-(this.most - 1)), open] : this.lines.slice(-this.most);
    }

    private open(): Piece[] | undefined {
        if (!this.rest) return undefined;
        const pen = this.pen;
        const line = this.line(this.rest);
        this.pen = pen;
        return line;
    }

    private line(text: string): Piece[] {
        const shown = finalLine(text);
        const pieces: Piece[] = [];
        let at = 0;
        // eslint-disable-next-line no-control-regex
        for (const match of shown.matchAll(/\x1b\[([0-9;]*)([A-Za-z])|\x1b\][^\x07\x1b]*(?:\x07|\x1b\\)/g)) {
            if (match.index > at) pieces.push({ text: shown.slice(at, match.index), style: style(this.pen) });
            if (match[2] === 'm') this.pen = apply(this.pen, (match[1] || '0').split(';').map(Number));
            at = match.index + match[0].length;
        }
        if (at < shown.length) pieces.push({ text: shown.slice(at), style: style(this.pen) });
        return pieces;
    }
}
