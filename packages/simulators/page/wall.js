const wall = document.getElementById('wall');
const network = document.getElementById('network');

/** Makes an element; text is always text, never markup. */
function element(name, properties = {}, ...children) {
  const made = Object.assign(document.createElement(name), properties);
  made.append(...children.filter((child) => child !== null && child !== undefined));
  return made;
}

const clock = (time) => new Date(time).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' });
const PERMISSION = { granted: 'notifications allowed', denied: 'notifications forbidden', unasked: 'not asked about notifications' };

function icon(badge) {
  const picture = document.createElementNS('http://www.w3.org/2000/svg', 'svg');
  picture.setAttribute('viewBox', '0 0 48 48');
  picture.setAttribute('aria-hidden', 'true');
  picture.innerHTML = '<path d="M6 38 19 15l7 11 5-7 11 19z" fill="#fbf8f2"/><path d="m19 15 4.4 7-4.2 3-4-2.600z" fill="#d99e2b"/>';
  const made = element('div', { className: 'icon' }, picture);
  if (badge > 0) made.append(element('span', { className: 'badge', ariaLabel: `badge ${badge}` }, String(badge)));
  return made;
}

function received(handset, index) {
  const list = element('ul', { className: 'list', ariaLabel: `Received by ${handset.name}`, tabIndex: 0 });
  for (const message of handset.received) {
    const more = [
      message.sound && `sound ${message.sound}`,
      message.link && `link ${message.link}`,
      message.data && `data ${JSON.stringify(message.data)}`,
    ]
      .filter(Boolean)
      .join(' · ');
    const button = element(
      'button',
      { type: 'button', title: message.opened ? 'Opened' : 'Open' },
      element('span', { className: 'top' }, message.title, element('time', { dateTime: message.receivedAt }, clock(message.receivedAt))),
      message.body ? element('span', {}, message.body) : null,
      message.opened ? element('span', { className: 'more' }, more ? `Opened: ${more}` : 'Opened') : null,
    );
    button.addEventListener('click', () => act(index, `open/${message.key}`));
    list.append(element('li', { className: message.opened ? 'opened' : 'new' }, button));
  }
  if (handset.received.length === 0) list.append(element('li', { className: 'empty' }, 'Nothing received yet.'));
  return list;
}

/** The texts on the phone, and an answer to the last. */
function replyForm(handset, index) {
  const input = element('input', {
    name: 'text',
    placeholder: 'Answer by SMS, such as STOP',
    ariaLabel: `Answer by SMS from ${handset.name}`,
  });
  const form = element('form', { className: 'reply' }, input, element('button', { type: 'submit', className: 'quiet' }, 'Send'));
  form.addEventListener('submit', (event) => {
    event.preventDefault();
    act(index, 'text', input.value);
    input.value = '';
  });
  return form;
}

function texts(handset) {
  const lines = [
    ...handset.texts.map(({ from, text }) => `SMS from ${from}: ${text}`),
    ...handset.mails.map(({ subject }) => `Mail: ${subject}`),
  ];
  return lines.slice(-3).map((line) => element('p', { className: 'text' }, line));
}

function actions(handset, index) {
  const button = (label, action, quiet) => {
    const made = element('button', { type: 'button', className: quiet ? 'quiet' : '' }, label);
    made.addEventListener('click', () => {
      made.disabled = true;
      act(index, action).finally(() => {
        made.disabled = false;
      });
    });
    return made;
  };
  return element(
    'div',
    { className: 'actions' },
    handset.signedInAs ? button('Sign out', 'signOut', true) : button(`Sign in as ${handset.person}`, 'signIn'),
    handset.phone ? replyForm(handset, index) : null,
    handset.permission === 'granted' ? button('Forbid notifications', 'forbid', true) : button('Allow notifications', 'allow'),
  );
}

function draw({ handsets, fault }) {
  network.textContent = fault.mode === 'none' ? '' : `The push network is set to ${JSON.stringify(fault)}.`;
  const focused = document.activeElement?.textContent;
  wall.replaceChildren(
    ...handsets.map((handset, index) => {
      const { registration } = handset;
      return element(
        'article',
        { className: handset.platform, ariaLabel: handset.name },
        element(
          'div',
          { className: 'body' },
          element(
            'div',
            { className: 'screen' },
            element('div', { className: 'status' }, element('span', {}, handset.model), element('span', {}, handset.os)),
            element(
              'div',
              { className: 'home' },
              icon(handset.badge),
              element('div', {}, element('b', {}, 'Quillfell Hiker'), element('span', {}, handset.signedInAs ?? 'nobody signed in')),
            ),
            received(handset, index),
          ),
        ),
        element(
          'div',
          { className: 'facts' },
          element('p', {}, `${handset.name}: ${PERMISSION[handset.permission]}, ${handset.locale}, ${handset.timeZone}.`),
          element(
            'p',
            { className: registration && !registration.ok ? 'bad' : '' },
            registration ? `${registration.text} at ${clock(registration.at)}.` : 'Not registered yet.',
          ),
          element(
            'p',
            {},
            `Through ${handset.network}${handset.phone ? `, number ${handset.phone}` : ''}. Device `,
            element('code', {}, handset.deviceId),
          ),
          ...texts(handset),
        ),
        actions(handset, index),
      );
    }),
  );
  if (handsets.length === 0)
    wall.append(element('p', {}, 'The handsets are not connected to a backend yet. Start the demo with npm run demo.'));
  [...wall.querySelectorAll('button')].find((button) => button.textContent === focused)?.focus();
}

async function act(index, action, body) {
  const reply = await fetch(`/wall/${index}/${action}`, { method: 'POST', ...(body === undefined ? {} : { body }) });
  if (!reply.ok) network.textContent = `That did not work: ${await reply.text()}`;
}

new EventSource('/wall/events').addEventListener('message', ({ data }) => {
  // Drawing anew would take away what somebody is typing.
  const typed = document.activeElement?.tagName === 'INPUT' && document.activeElement.value;
  if (!typed) draw(JSON.parse(data));
});
