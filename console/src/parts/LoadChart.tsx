import { scaleLinear } from '@visx/scale';
import styled from 'styled-components';
import { day, plural } from '../data/format';
import { color, narrow, radius, space } from '../theme/tokens';

const Box = styled.figure`
  margin: ${space(4)} 0; padding: ${space(3)} ${space(4)} ${space(4)}; background: ${color.raised}; border: 1px solid ${color.line}; border-radius: ${radius};
  figcaption { color: ${color.soft}; font-size: 14px; margin-bottom: ${space(2)}; }
  .plot { display: grid; grid-template-columns: auto minmax(0, 1fr); column-gap: ${space(2)}; }
  .up { position: relative; height: 170px; width: 34px; font-size: 13px; color: ${color.soft}; text-align: right; }
  .up span { position: absolute; right: 0; transform: translateY(50%); line-height: 1; }
  svg { display: block; width: 100%; height: 170px; border-bottom: 1px solid ${color.soft}; }
  path { fill: ${color.agreed}; } .most { fill: ${color.brassFill}; } line { stroke: ${color.line}; vector-effect: non-scaling-stroke; }
  .along { grid-column: 2; position: relative; height: 24px; font-size: 13px; color: ${color.soft}; margin-top: ${space(1)}; }
  .along span { position: absolute; white-space: nowrap; transform: translateX(-50%); } .along span:first-child { transform: none; } .along span:last-child { transform: translateX(-100%); }
  details { margin-top: ${space(2)}; font-size: 14px; } summary { cursor: pointer; color: ${color.link}; }
  table { border-collapse: collapse; } td, th { text-align: left; padding: 2px ${space(4)} 2px 0; }
  ${narrow} { .along span:nth-child(even) { display: none; } }
`;

const dayLong = 86_400_000;
const monthFormat = new Intl.DateTimeFormat('en-GB', { month: 'short', year: 'numeric', timeZone: 'UTC' });

/** The first days of quarters, as places among the days. */
function quarters(from: Date, days: number) {
  const out: { at: number; text: string }[] = [];
  for (let at = 0; at <= days; at++) {
    const d = new Date(from.getTime() + at * dayLong);
    if (d.getUTCDate() === 1 && d.getUTCMonth() % 3 === 0) out.push({ at, text: monthFormat.format(d) });
  }
  return out;
}

/** Whole numbers up the side, few enough to be read. */
function steps(most: number) {
  return scaleLinear({ domain: [0, Math.max(1, most)] }).ticks(4).filter((n) => Number.isInteger(n) && n > 0);
}

/** How much is to be renewed on each day; the day with the most has another colour, and its words. */
export function LoadChart({ from, days, peakOn }: { from: string; days: number[]; peakOn?: string | undefined }) {
  const start = new Date(from);
  const most = Math.max(1, ...days);
  const y = scaleLinear({ domain: [0, most * 1.08], range: [0, 100] });
  const wide = 1000 / days.length;
  const peak = peakOn ? Math.round((Date.parse(peakOn) - start.getTime()) / dayLong) : -1;
  const bar = (n: number, i: number) => (n > 0 ? `M${i * wide} 100v${-y(n)}h${Math.max(wide * 0.85, 1.2)}v${y(n)}z` : '');
  const months = new Map<string, number>();
  days.forEach((n, i) => { const m = monthFormat.format(new Date(start.getTime() + i * dayLong)); months.set(m, (months.get(m) ?? 0) + n); });
  const all = days.reduce((a, b) => a + b, 0);
  return (
    <Box>
      <figcaption>Renewals a day, {plural(all, 'renewal')} in two years{peakOn && all > 0 && <>; the most on one day: {most}, on {day(peakOn)}</>}</figcaption>
      <div className="plot">
        <div className="up" aria-hidden="true">{steps(most).map((n) => <span key={n} style={{ bottom: `${y(n)}%` }}>{n}</span>)}</div>
        <svg viewBox="0 0 1000 100" preserveAspectRatio="none" role="img" aria-label={`Renewals a day over two years, at most ${most}`}>
          {steps(most).map((n) => <line key={n} x1="0" x2="1000" y1={100 - y(n)} y2={100 - y(n)} />)}
          <path d={days.map((n, i) => (i === peak ? '' : bar(n, i))).join('')} />
          {peak >= 0 && <path className="most" d={bar(days[peak] ?? 0, peak)} />}
        </svg>
        <div className="along" aria-hidden="true">{quarters(start, days.length).map((q) => <span key={q.at} style={{ left: `${(q.at / days.length) * 100}%` }}>{q.text}</span>)}</div>
      </div>
      <details>
        <summary>Read as text</summary>
        <table>
          <thead><tr><th>Month</th><th>Renewals</th></tr></thead>
          <tbody>{[...months].map(([m, n]) => <tr key={m}><td>{m}</td><td>{n}</td></tr>)}</tbody>
        </table>
      </details>
    </Box>
  );
}
