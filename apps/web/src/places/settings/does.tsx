/** What a change would do, sentence by sentence, before it is made; nothing where there is nothing to say. */
export function Does({ words }: { words: readonly string[] }) {
  if (words.length === 0) return null;
  return (
    <div className="does" role="status">
      {words.map((sentence) => (
        <p key={sentence}>{sentence}</p>
      ))}
    </div>
  );
}
