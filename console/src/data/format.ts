const dayFormat = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'long', year: 'numeric', timeZone: 'UTC' });
const shortFormat = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', timeZone: 'UTC' });
const momentFormat = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', timeZone: 'UTC' });

export const day = (t: string | Date) => dayFormat.format(new Date(t));
export const shortDay = (t: string | Date) => shortFormat.format(new Date(t));
export const moment = (t: string) => `${momentFormat.format(new Date(t))} UTC`;

export const plural = (n: number, one: string) => `${n.toLocaleString('en-GB')} ${one}${n === 1 ? '' : 's'}`;

/** The days a certificate has, in words. */
export function left(days: number): string {
  if (days < -1) return `ended ${-days} days ago`;
  if (days < 0) return 'ended';
  if (days === 0) return 'ends today';
  return plural(days, 'day');
}

/** Whether a certificate should have been renewed by now: a third of its life, at most 14 days. */
export function isDue(c: { days_left: number; not_before: string; not_after: string }): boolean {
  const life = (new Date(c.not_after).getTime() - new Date(c.not_before).getTime()) / 86400000;
  return c.days_left < Math.min(life / 3, 14);
}

/** How long ago something was, in words. */
export function ago(t: string): string {
  const seconds = Math.max(0, (Date.now() - new Date(t).getTime()) / 1000);
  if (seconds < 60) return 'just now';
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`;
  if (seconds < 86400) return `${Math.floor(seconds / 3600)} h ago`;
  return `${plural(Math.floor(seconds / 86400), 'day')} ago`;
}

/** How long from now something will be, in words. */
export function ahead(t: string): string {
  const seconds = (new Date(t).getTime() - Date.now()) / 1000;
  if (seconds < 60) return 'any moment';
  if (seconds < 3600) return `in ${Math.floor(seconds / 60)} min`;
  if (seconds < 86400) return `in ${Math.floor(seconds / 3600)} h`;
  return `in ${plural(Math.floor(seconds / 86400), 'day')}`;
}

/** A CSV file from rows; a cell a spreadsheet would take for a formula gets a quote in front. */
export function csv(rows: string[][]): string {
  const cell = (s: string) => {
    const safe = /^[=+\-@\t\r]/.test(s) && !/^-?\d+$/.test(s) ? `'${s}` : s;
    return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
  };
  return rows.map((r) => r.map(cell).join(',')).join('\r\n') + '\r\n';
}

/** Offers a text as a file. */
export const download = (name: string, type: string, text: string) => offer(name, new Blob([text], { type }));

/** Offers bytes, given as base64, as a file. */
export const saveBytes = (name: string, base64: string) => offer(name, new Blob([Uint8Array.from(atob(base64), (c) => c.charCodeAt(0))]));

function offer(name: string, what: Blob) {
  const url = URL.createObjectURL(what);
  const a = document.createElement('a');
  a.href = url;
  a.download = name;
  a.click();
  setTimeout(() => URL.revokeObjectURL(url), 1000);
}

/** Begins a sentence with a capital, but for names and paths. */
export const capital = (s: string) => (/^\S*[^a-z\s]\S*/.test(s) ? s : s.charAt(0).toUpperCase() + s.slice(1));

/** Whether something was more than a minute ago: not just now. */
export const notJustNow = (iso: string) => Date.now() - Date.parse(iso) > 60_000;
