/** A worked example: a video call between two or more browsers that agree over a channel of the service. */

export const CALL_BODY = `<h1>Call</h1>
<form>
  <label>E-mail address <input name="email" type="email" autocomplete="username" required></label>
  <label>Password <input name="password" type="password" autocomplete="current-password" required></label>
  <label>Call <input name="call" value="fellgate" pattern="[a-z0-9\\-]+" title="Small letters, digits and -" required></label>
  <button>Join</button>
</form>
<p role="status">Nobody is on the call yet.</p>
<button id="leave" hidden>Leave</button>
<ul></ul>
<script type="module" src="/call/call.js"></script>`;

/**
 * Each browser has a name of its own for the call. Messages on the channel \`calls/{name}\` are
 * \`{ from, hello }\` of whoever joins, \`{ from, to, description }\` and \`{ from, to, candidate }\` between two, and
 * \`{ from, bye }\`. Both sides of a pair may begin; which of two offers counts is settled as in the W3C WebRTC
 * recommendation, section 10.7 ("perfect negotiation").
 * @param service the address of the service
 */
export const callScript = (service: string, key: string): string => `import { connect } from '${service}/client/orchard.js';
const orchard = connect({ address: '${service}', clientKey: '${key}' });
const form = document.querySelector('form');
const said = document.querySelector('[role=status]');
const leave = document.querySelector('#leave');
const list = document.querySelector('ul');
// With ?relayed in the address every picture goes through the TURN server, which shows whether it works.
const iceTransportPolicy = new URL(location.href).searchParams.has('relayed') ? 'relay' : 'all';
const me = crypto.randomUUID();
const peers = new Map();
let channel, own, servers, stop, greeted;

const tell = (error) => { said.textContent = error.message; };
// One after another: candidates that overtake the description before them would be lost.
let sending = Promise.resolve();
const send = (message) => {
  sending = sending.then(() => channel.publish({ from: me, ...message })).catch(tell);
  return sending;
};
function show(id, stream, label) {
  const item = document.createElement('li');
  item.dataset.peer = id;
  const video = Object.assign(document.createElement('video'), { autoplay: true, playsInline: true, muted: id === 'own', srcObject: stream });
  const caption = document.createElement('b');
  caption.textContent = label;
  item.append(video, caption);
  list.append(item);
  return { item, video, caption };
}
function count() {
  said.textContent = peers.size === 0 ? 'Nobody else is on the call yet.' : peers.size + (peers.size === 1 ? ' other is' : ' others are') + ' on the call.';
}
function drop(id) {
  const peer = peers.get(id);
  peer?.connection.close();
  peer?.shown.item.remove();
  peers.delete(id);
  count();
}

function peerOf(id) {
  if (peers.has(id)) return peers.get(id);
  const connection = new RTCPeerConnection({ iceServers: servers, iceTransportPolicy });
  const peer = { connection, shown: show(id, null, 'connecting …'), yields: me < id, offering: false, ignores: false };
  peers.set(id, peer);
  count();
  connection.ontrack = ({ streams }) => { peer.shown.video.srcObject = streams[0]; };
  connection.onicecandidate = ({ candidate }) => candidate && send({ to: id, candidate: candidate.toJSON() });
  connection.onnegotiationneeded = async () => {
    try {
      peer.offering = true;
      await connection.setLocalDescription();
      await send({ to: id, description: connection.localDescription.toJSON() });
    } catch (error) { tell(error); } finally { peer.offering = false; }
  };
  connection.onconnectionstatechange = async () => {
    const { connectionState } = connection;
    if (connectionState === 'failed') return void (peer.shown.caption.textContent = 'cannot be reached: the team has to set up a TURN server');
    peer.shown.caption.textContent = connectionState === 'connected' ? await wayOf(connection) : connectionState + ' …';
  };
  for (const track of own.getTracks()) connection.addTrack(track, own);
  return peer;
}
/** Whether the pictures go from one to the other, or through a relay. */
async function wayOf(connection) {
  // Which pair of candidates was chosen is known a little after the connection.
  while (connection.connectionState === 'connected') {
    const stats = [...(await connection.getStats()).values()];
    const pair = stats.find(({ type, nominated, state }) => type === 'candidate-pair' && nominated && state === 'succeeded');
    const local = stats.find(({ id }) => id === pair?.localCandidateId);
    if (local) return local.candidateType === 'relay' ? 'connected through the relay' : 'connected directly';
    await new Promise((resolve) => setTimeout(resolve, 250));
  }
  return connection.connectionState + ' …';
}

async function take({ from, to, hello, bye, description, candidate }) {
  if (!from || from === me || (to && to !== me)) return;
  if (bye) return drop(from);
  const peer = peerOf(from);
  if (hello) return;
  const { connection } = peer;
  if (description) {
    const collides = description.type === 'offer' && (peer.offering || connection.signalingState !== 'stable');
    peer.ignores = collides && !peer.yields;
    if (peer.ignores) return;
    await connection.setRemoteDescription(description);
    if (description.type !== 'offer') return;
    await connection.setLocalDescription();
    await send({ to: from, description: connection.localDescription.toJSON() });
  } else if (candidate) {
    await connection.addIceCandidate(candidate).catch((error) => { if (!peer.ignores) throw error; });
  }
}

form.onsubmit = async (event) => {
  event.preventDefault();
  const { email, password, call } = Object.fromEntries(new FormData(form));
  try {
    await orchard.signIn(email, password);
    servers = (await orchard.iceServers()).iceServers;
    own = await navigator.mediaDevices.getUserMedia({ video: { width: 320, height: 240 }, audio: true });
    channel = orchard.channel('calls/' + call);
    greeted = false;
    // One message after another: a candidate counts only after the description before it.
    let work = Promise.resolve();
    stop = channel.listen(({ event, data }) => {
      if (event === 'message') work = work.then(() => take(data.data)).catch(tell);
      else if (event === 'presence' && !greeted) {
        greeted = true;
        send({ hello: true });
      }
    }, { onProblem: tell });
    show('own', own, 'you');
    form.hidden = true;
    leave.hidden = false;
    count();
  } catch (error) { tell(error); }
};
leave.onclick = async () => {
  await send({ bye: true });
  stop();
  for (const id of [...peers.keys()]) drop(id);
  for (const track of own.getTracks()) track.stop();
  list.replaceChildren();
  form.hidden = false;
  leave.hidden = true;
  said.textContent = 'You left the call.';
};
// Whoever closes the page leaves, too.
addEventListener('pagehide', () => { if (channel && !leave.hidden) send({ bye: true }); });
`;
