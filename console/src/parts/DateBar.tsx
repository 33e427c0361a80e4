import styled from 'styled-components';
import { day, left } from '../data/format';
import { color, radius, space } from '../theme/tokens';

const Bar = styled.div`
  .track { position: relative; height: 18px; border: 1px solid ${color.soft}; border-radius: ${radius}; background: ${color.raised}; overflow: hidden; }
  .gone { position: absolute; inset: 0 auto 0 0; background: ${color.line}; }
  .due { position: absolute; inset: 0 0 0 auto; background: ${color.brassFill}; }
  .now { position: absolute; top: 0; bottom: 0; width: 3px; margin-left: -1px; background: ${color.ink}; }
  .ends { display: flex; justify-content: space-between; font-size: 14px; color: ${color.soft}; margin-top: ${space(1)}; gap: ${space(3)}; }
`;

/** A certificate's life: what is gone, now, and the stretch in which it is due. */
export function DateBar({ from, until, daysLeft }: { from: string; until: string; daysLeft: number }) {
  const life = new Date(until).getTime() - new Date(from).getTime();
  const gone = Math.min(100, Math.max(0, 100 - (daysLeft * 86400000 * 100) / life));
  const due = Math.min(100 / 3, (14 * 86400000 * 100) / life);
  return (
    <Bar role="img" aria-label={`Valid from ${day(from)} to ${day(until)}, ${left(daysLeft)}${daysLeft < 0 ? '' : ' left'}`}>
      <div className="track">
        <div className="due" style={{ width: `${due}%` }} />
        <div className="gone" style={{ width: `${gone}%` }} />
        <div className="now" style={{ left: `${gone}%` }} />
      </div>
      <div className="ends" aria-hidden="true"><span>{day(from)}</span><strong>{left(daysLeft)}{daysLeft < 0 ? '' : ' left'}</strong><span>{day(until)}</span></div>
    </Bar>
  );
}
