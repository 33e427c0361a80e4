import { scalePower } from '@visx/scale';
import { useState } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import type { Schemas } from '../data/client';
import { day, isDue, left, plural, shortDay } from '../data/format';
import { color, font, narrow, radius, space } from '../theme/tokens';
import { Button } from './Controls';

type Lane = Schemas['Lane'];
type Today = Schemas['Today'];

const Box = styled.figure`
  margin: ${space(5)} 0 ${space(6)}; padding: ${space(3)} ${space(4)} ${space(4)}; background: ${color.raised}; border: 1px solid ${color.line}; border-radius: ${radius};
  figcaption { color: ${color.soft}; font-size: 14px; }
  > button { float: right; margin-top: ${space(2)}; }
  details { margin-top: ${space(3)}; min-height: 30px; font-size: 14px; }
  summary { cursor: pointer; color: ${color.link}; }
  details table { border-collapse: collapse; } details td, details th { text-align: left; padding: 2px ${space(4)} 2px 0; }
`;

const Rows = styled.div`
  display: grid; grid-template-columns: minmax(120px, 270px) 1fr; align-items: center; column-gap: ${space(4)};
  .name { font-size: 15px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; line-height: 26px; }
  .name a { color: ${color.ink}; text-decoration: none; } .name a:hover { text-decoration: underline; }
  .track { position: relative; height: 26px; }
  .axis { position: relative; height: 24px; font-size: 13px; color: ${color.soft}; }
  .axis span { position: absolute; white-space: nowrap; transform: translateX(-50%); }
  .axis span:first-child { transform: none; } .axis span:last-child { transform: translateX(-100%); }
  .grid { position: absolute; top: 0; bottom: 0; width: 1px; background: ${color.line}; }
  .now { background: ${color.ink}; }
  .line { position: absolute; top: 12px; height: 2px; }
  .end { position: absolute; top: 6px; width: 10px; height: 14px; margin-left: -5px; border: 2.5px solid; border-radius: 2px; background: ${color.raised}; }
  .over { position: absolute; top: -1px; margin-left: -7px; font: 800 18px/26px ${font.sign}; }
  .say { position: absolute; top: 2px; font-size: 14px; line-height: 22px; color: ${color.soft}; white-space: nowrap; background: ${color.raised}; padding: 0 3px; }
  .density { display: flex; align-items: flex-end; height: 32px; position: relative; border-bottom: 1px solid ${color.soft}; }
  .density i { position: absolute; bottom: 0; background: ${color.agreed}; opacity: 0.85; min-width: 3px; }
  ${narrow} { grid-template-columns: 1fr; .axis span:nth-child(even) { display: none; } .name { line-height: 20px; margin-top: ${space(1)}; } }
`;

const milestones = [-30, -7, 0, 7, 30, 60, 90, 140, 200, 300, 400];

/** What ends later than this stands at the right edge; in per cent, how far marks keep apart. */
const horizon = 430;
const apart = 8;

/** Lanes shown before more are asked for. */
const few = 6;

/** Days on a scale that shows 6-day and 200-day certificates side by side. */
function daysScale(days: number[]) {
  const most = Math.min(Math.max(30, ...days) * 1.04, horizon);
  const least = Math.min(-1, Math.max(-60, Math.min(...days, 0))) * 1.3;
  const scale = scalePower({ exponent: 0.5, domain: [least, most], range: [0, 100], clamp: true });
  const ticks: number[] = [];
  for (const m of milestones.filter((m) => m > least && m < most)) {
    // Today always has its mark; others keep clear of the one before.
    if (m === 0) while (ticks.length > 0 && scale(0) - scale(ticks.at(-1) ?? 0) < apart) ticks.pop();
    if (m === 0 || scale(m) - scale(ticks.at(-1) ?? least) > apart) ticks.push(m);
  }
  return { at: (d: number) => scale(d), ticks };
}

const daysOf = (t: string, now: Date) => (new Date(t).getTime() - now.getTime()) / 86400000;

/** What ends when: first the certificates that need somebody, then all by day. */
export function TimeLine({ today }: { today: Today }) {
  const [all, setAll] = useState(false);
  const now = new Date(today.at);
  const { at, ticks } = daysScale([...today.lanes.map((l) => l.days_left), ...today.density.map((d) => daysOf(d.day, now))]);
  const lanes = all ? today.lanes : today.lanes.slice(0, few);
  const tickDay = (d: number) => shortDay(new Date(now.getTime() + d * 86400000));
  return (
    <Box>
      <figcaption>The certificates in use that end first, of {plural(today.in_use, 'certificate')}</figcaption>
      <Rows>
        <span />
        <div className="axis" aria-hidden="true">{ticks.map((d) => <span key={d} style={{ left: `${at(d)}%` }}>{d === 0 ? 'today' : tickDay(d)}</span>)}</div>
        {lanes.map((l) => <LaneRow key={l.sha256} lane={l} at={at} ticks={ticks} />)}
        <span className="name">all that are in use</span>
        <Density today={today} now={now} at={at} ticks={ticks} />
      </Rows>
      {today.lanes.length > few && <Button onPress={() => setAll(!all)}>{all ? 'Show fewer' : `Show ${today.lanes.length - few} more`}</Button>}
      <details>
        <summary>Read as text</summary>
        <table>
          <thead><tr><th>Certificate</th><th>Ends</th><th>Left</th></tr></thead>
          <tbody>{today.lanes.map((l) => <tr key={l.sha256}><td>{l.name}</td><td>{day(l.not_after)}</td><td>{left(l.days_left)}</td></tr>)}</tbody>
        </table>
      </details>
    </Box>
  );
}

function tone(l: Lane) {
  if (l.days_left < 0) return color.oxide;
  return isDue(l) ? color.brass : color.agreed;
}

function LaneRow({ lane, at, ticks }: { lane: Lane; at: (d: number) => number; ticks: number[] }) {
  const over = lane.days_left < 0;
  const end = at(lane.days_left);
  const paint = tone(lane);
  const text = `${left(lane.days_left)}${lane.hosts > 1 ? `, at ${plural(lane.hosts, 'binding')}` : ''}`;
  const start = Math.min(at(0), end);
  return (
    <>
      <span className="name"><Link to={`/certificates/${lane.sha256}`} title={lane.name}>{lane.name}</Link></span>
      <div className="track">
        {ticks.map((d) => <div key={d} className={d === 0 ? 'grid now' : 'grid'} style={{ left: `${at(d)}%` }} />)}
        <div className="line" style={{ left: `${start}%`, width: `${Math.abs(end - at(0))}%`, background: paint }} />
        {over ? <div className="over" style={{ left: `${end}%`, color: paint }}>✕</div> : <div className="end" style={{ left: `${end}%`, borderColor: paint }} />}
        <span className="say" style={end > 70 ? { right: `calc(${100 - end}% + 12px)` } : { left: `calc(${over ? at(0) : end}% + 12px)` }}>{text}</span>
      </div>
    </>
  );
}

function Density({ today, now, at, ticks }: { today: Today; now: Date; at: (d: number) => number; ticks: number[] }) {
  const bins = new Map<number, number>();
  for (const d of today.density) {
    const bin = Math.min(99, Math.round(at(daysOf(d.day, now))));
    bins.set(bin, (bins.get(bin) ?? 0) + d.count);
  }
  const most = Math.max(1, ...bins.values());
  return (
    <div className="density" role="img" aria-label={`How many certificates end when, ${today.in_use} in all`}>
      {ticks.map((d) => <div key={d} className={d === 0 ? 'grid now' : 'grid'} style={{ left: `${at(d)}%` }} />)}
      {[...bins].map(([bin, n]) => <i key={bin} style={{ left: `${bin}%`, width: '0.8%', height: `${Math.max(12, (n / most) * 100)}%` }} title={plural(n, 'certificate')} />)}
    </div>
  );
}
