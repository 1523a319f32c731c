// What an address answers, null where it refuses; read in any case, as what is left unread stays under way.
export async function fetchText(address, options) {
  const answer = await fetch(address, options);
  const text = await answer.text();
  return answer.ok ? text : null;
}
