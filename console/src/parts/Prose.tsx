import styled from 'styled-components';

const Whole = styled.span`white-space: nowrap;`;

/** The longest word that is kept whole; a longer one may break to stay on the page. */
const longest = 36;

/** A sentence in which host names and addresses do not break in the middle. */
export function Prose({ text }: { text: string }) {
  return <>{text.split(/( )/).map((word, i) => (/[.-]/.test(word) && word.length <= longest ? <Whole key={i}>{word}</Whole> : word))}</>;
}
