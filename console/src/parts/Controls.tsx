import { useEffect, useEffectEvent, useState, type ReactNode } from 'react';
import * as Aria from 'react-aria-components';
import styled, { css } from 'styled-components';
import { color, font, radius, space } from '../theme/tokens';

const box = css`
  font: 500 15px/1.2 ${font.text}; color: ${color.ink}; background: ${color.raised}; border: 1px solid ${color.soft}; border-radius: ${radius};
  padding: ${space(2)} ${space(3)}; min-height: 36px; cursor: pointer;
  &[data-hovered] { border-color: ${color.ink}; }
  &[data-disabled] { opacity: 0.6; cursor: default; }
`;

export const Button = styled(Aria.Button)<{ $main?: boolean }>`
  ${box}
  ${(p) => p.$main && css`background: ${color.cobalt}; border-color: ${color.cobalt}; color: ${color.cream}; font-weight: 600;`}
`;

const Toggles = styled(Aria.ToggleButtonGroup)`
  display: flex; flex-wrap: wrap; gap: ${space(2)};
  button { ${box} }
  button[data-selected] { background: ${color.ink}; border-color: ${color.ink}; color: ${color.ground}; }
`;

/** One choice of a few, all in sight. */
export function Choice({ label, value, options, onChange }: { label: string; value: string; options: [id: string, text: string][]; onChange: (id: string) => void }) {
  return (
    <Toggles aria-label={label} selectionMode="single" disallowEmptySelection selectedKeys={[value]} onSelectionChange={(keys) => onChange(String([...keys][0]))}>
      {options.map(([id, text]) => <Aria.ToggleButton key={id} id={id}>{text}</Aria.ToggleButton>)}
    </Toggles>
  );
}

const Field = styled(Aria.SearchField)`
  input { ${box} cursor: text; min-width: 260px; &::placeholder { color: ${color.soft}; opacity: 1; } }
`;

/** How long a search waits for the next character. */
const typing = 250;

/** A search box. What is typed is its own; the value, which may stand in the address, follows when typing rests. */
export function Search({ label, value, onChange }: { label: string; value: string; onChange: (v: string) => void }) {
  const [text, setText] = useState(value);
  const [seen, setSeen] = useState(value);
  const [sent, setSent] = useState<string[]>([]); // on their way to become the value
  if (value !== seen) {
    setSeen(value);
    const ours = sent.indexOf(value);
    setSent(ours < 0 ? [] : sent.slice(ours + 1));
    if (ours < 0) setText(value); // changed by others: a link, the way back
  }
  const tell = useEffectEvent((v: string) => { if (v !== (sent.at(-1) ?? value)) { setSent([...sent, v]); onChange(v); } });
  useEffect(() => {
    const later = setTimeout(() => tell(text.trim()), typing);
    return () => clearTimeout(later);
  }, [text]);
  return (
    <Field aria-label={label} value={text} onChange={setText}>
      <Aria.Input placeholder={label} />
    </Field>
  );
}

const SelectBox = styled(Aria.Select)`
  display: flex; align-items: center; gap: ${space(2)};
  label, [slot='label'] { color: ${color.soft}; font-size: 14px; }
  .hidden { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); white-space: nowrap; }
  button { ${box} display: flex; gap: ${space(2)}; max-width: min(100%, 84vw); text-align: left; overflow-wrap: anywhere; }
  min-width: 0;
`;

export const Panel = styled(Aria.Popover)`
  background: ${color.raised}; color: ${color.ink}; border: 1px solid ${color.ink}; border-radius: ${radius}; max-width: min(440px, 94vw); overflow: auto;
  &:focus { outline: none; }
`;

const Items = styled(Aria.ListBox)`
  padding: ${space(1)}; outline: none;
  [role='option'] { padding: ${space(2)} ${space(3)}; border-radius: ${radius}; cursor: pointer; outline: none; }
  [role='option'][data-focused] { background: ${color.cobalt}; color: ${color.cream}; }
  [role='option'][data-selected] { font-weight: 700; }
` as typeof Aria.ListBox;

/** One choice of many. */
export function Pick({ label, hidden, value, options, onChange }: { label: string; hidden?: boolean; value: string; options: [id: string, text: string][]; onChange: (id: string) => void }) {
  return (
    <SelectBox value={value} onChange={(key) => onChange(String(key))}>
      <Aria.Label className={hidden ? 'hidden' : ''}>{label}</Aria.Label>
      <Aria.Button><Aria.SelectValue /><span aria-hidden="true">▾</span></Aria.Button>
      <Panel>
        <Items>{options.map(([id, text]) => <Aria.ListBoxItem key={id} id={id}>{text}</Aria.ListBoxItem>)}</Items>
      </Panel>
    </SelectBox>
  );
}

const Entries = styled(Aria.Menu)`
  padding: ${space(1)}; outline: none;
  [role^='menuitem'] { padding: ${space(2)} ${space(3)}; border-radius: ${radius}; cursor: pointer; outline: none; }
  [role^='menuitem'][data-focused] { background: ${color.cobalt}; color: ${color.cream}; }
` as typeof Aria.Menu;

/** Several choices behind one button, such as the columns of a table. */
export function PickMany({ label, value, options, onChange }: { label: string; value: string[]; options: [id: string, text: string][]; onChange: (ids: string[]) => void }) {
  return (
    <Aria.MenuTrigger>
      <Button>{label} <span aria-hidden="true">▾</span></Button>
      <Panel>
        <Entries selectionMode="multiple" selectedKeys={value} disallowEmptySelection onSelectionChange={(keys) => onChange(keys === 'all' ? options.map(([id]) => id) : [...keys].map(String))}>
          {options.map(([id, text]) => (
            <Aria.MenuItem key={id} id={id} textValue={text}>{({ isSelected }) => <>{isSelected ? '✓ ' : '\u2003'}{text}</>}</Aria.MenuItem>
          ))}
        </Entries>
      </Panel>
    </Aria.MenuTrigger>
  );
}

export const Bar = styled.div`
  display: flex; flex-wrap: wrap; align-items: center; gap: ${space(3)}; margin: ${space(4)} 0;
`;

const Track = styled(Aria.ProgressBar)`
  display: grid; gap: ${space(1)}; min-width: 240px;
  > div { height: 10px; border: 1px solid ${color.cobalt}; border-radius: ${radius}; background: ${color.raised}; overflow: hidden; }
  > div > div { height: 100%; background: ${color.brassFill}; transition: width 0.25s linear; }
`;

/** A bar that moves because something really does. */
export function Progress({ label, value, of }: { label: ReactNode; value: number; of: number }) {
  return (
    <Track value={value} minValue={0} maxValue={Math.max(of, 1)} valueLabel={`${value} of ${of}`}>
      {({ percentage, valueText }) => (
        <>
          <Aria.Label>{label} {valueText}</Aria.Label>
          <div><div style={{ width: `${percentage ?? 0}%` }} /></div>
        </>
      )}
    </Track>
  );
}

export const Scroll = styled.div`overflow-x: auto; &:focus-visible { outline-offset: -3px; }`;

export const Plain = styled.table`
  border-collapse: collapse; width: 100%; background: ${color.raised}; border: 1px solid ${color.line};
  thead th, thead td { border-bottom: 2px solid ${color.ink}; }
  th { text-align: left; font: 600 14px ${font.sign}; }
  th, td { padding: ${space(2)} ${space(3)}; vertical-align: top; }
  tbody tr + tr td, tbody tr + tr th { border-top: 1px solid ${color.line}; }
  td.n { white-space: nowrap; }
`;
