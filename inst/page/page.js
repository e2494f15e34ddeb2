// The map and the table of a page. Shapes come thinned for the window that is shown; they are drawn once into a picture, which moves with the
// pointer, and are asked for anew when the window rests.
document.addEventListener('DOMContentLoaded', function () {
  'use strict';
  var canvas = document.getElementById('map');
  var byId = function (id) { return document.getElementById(id); };
  var layers = [], order = [], box = null, home = null, atHome = true, view = null, marked = { layer: 0, rows: new Set() }, picture = null, waiting = null, fetched = 0;
  var dot = [1, 1];  // the radius of a point, in units of the window that is drawn

  // --- what is shown ------------------------------------------------------------------------------------------------
  function size() {
    var area = canvas.getBoundingClientRect(), dots = window.devicePixelRatio || 1;
    canvas.width = Math.max(1, Math.round(area.width * dots));
    canvas.height = Math.max(1, Math.round(area.height * dots));
  }
  function show(box) {
    if (!box) return;
    atHome = true;
    var scale = Math.max((box[2] - box[0]) / canvas.width, (box[3] - box[1]) / canvas.height) * 1.06;
    if (!(scale > 0)) scale = 1;
    view = { x: (box[0] + box[2]) / 2, y: (box[1] + box[3]) / 2, scale: scale };
    changed();
  }
  // Units of the map at a place of the picture, from its middle.
  function unitsAt(px, py) {
    return [view.x + (px - canvas.width / 2) * view.scale, view.y - (py - canvas.height / 2) * view.scale];
  }
  function changed() {
    draw();
    clearTimeout(waiting);
    waiting = setTimeout(ask, 120);
  }
  // Shapes of the window and as much again around it.
  function ask() {
    if (!view || !window.Shiny || !Shiny.setInputValue) return;
    var w = canvas.width * view.scale, h = canvas.height * view.scale;
    Shiny.setInputValue('view', { window: [view.x - w, view.y - h, view.x + w, view.y + h], width: canvas.width * 2 });
  }

  // --- shapes -------------------------------------------------------------------------------------------------------
  function read(bytes) {
    var view = new DataView(bytes), count = view.getInt32(0, true), rings = view.getInt32(4, true), at = 40;
    var window = [0, 1, 2, 3].map(function (k) { return view.getFloat64(8 + 8 * k, true); });
    var ints = function (n) { var values = new Int32Array(bytes, at, n); at += 4 * n; return values; };
    return { window: window, starts: ints(rings), row: ints(rings), dimension: ints(rings), places: new Uint16Array(bytes, at, 2 * count), count: count };
  }
  // Paths for each class, in units of 1 / 65535 of the window: of few rows each, as one of very many edges takes much longer to fill.
  function pathsOf(layer) {
    var paths = [], open = new Map(), shapes = layer.shapes, classes = layer.classes;
    if (!shapes || !classes) return paths;
    for (var ring = 0; ring < shapes.starts.length; ring++) {
      var row = shapes.row[ring], key = classes[row] * 4 + shapes.dimension[ring], one = open.get(key);
      if (!one || (one.rings >= 100 && one.row !== row)) {
        one = { class: classes[row], dimension: shapes.dimension[ring], path: new Path2D(), rings: 0 };
        open.set(key, one);
        paths.push(one);
      }
      one.rings++;
      one.row = row;
      addRing(one.path, shapes, ring);
    }
    return paths;
  }
  function addRing(path, shapes, ring) {
    var from = shapes.starts[ring], to = ring + 1 < shapes.starts.length ? shapes.starts[ring + 1] : shapes.count, p = shapes.places;
    if (shapes.dimension[ring] === 0) {
      for (var k = from; k < to; k++) { path.moveTo(p[2 * k] + dot[0], p[2 * k + 1]); path.ellipse(p[2 * k], p[2 * k + 1], dot[0], dot[1], 0, 0, 7); }
      return;
    }
    path.moveTo(p[2 * from], p[2 * from + 1]);
    for (var v = from + 1; v < to; v++) path.lineTo(p[2 * v], p[2 * v + 1]);
    if (shapes.dimension[ring] === 2) path.closePath();
  }

  // --- drawing ------------------------------------------------------------------------------------------------------
  var dark = window.matchMedia && matchMedia('(prefers-color-scheme: dark)');
  function place(context, window) {
    var sx = (window[2] - window[0]) / 65535 / view.scale, sy = (window[3] - window[1]) / 65535 / view.scale;
    var x = canvas.width / 2 + (window[0] - view.x) / view.scale, y = canvas.height / 2 - (window[1] - view.y) / view.scale;
    context.setTransform(sx, 0, 0, -sy, x, y);
    return sx;
  }
  function draw() {
    if (!view) return;
    var context = canvas.getContext('2d');
    context.setTransform(1, 0, 0, 1, 0, 0);
    context.fillStyle = dark && dark.matches ? '#1e2f37' : '#e9f0f2';
    context.fillRect(0, 0, canvas.width, canvas.height);
    if (picture && moving) {
      var s = picture.view.scale / view.scale;
      context.setTransform(s, 0, 0, s, canvas.width / 2 + (picture.view.x - view.x) / view.scale - s * canvas.width / 2,
        canvas.height / 2 - (picture.view.y - view.y) / view.scale - s * canvas.height / 2);
      context.drawImage(picture.canvas, 0, 0);
      return;
    }
    inOrder().forEach(function (k) { drawLayer(context, layers[k], k + 1); });
    drawMeasured(context);
    if (!moving) {
      picture = picture || { canvas: document.createElement('canvas') };
      if (picture.canvas.width !== canvas.width || picture.canvas.height !== canvas.height) { picture.canvas.width = canvas.width; picture.canvas.height = canvas.height; }
      picture.canvas.getContext('2d').drawImage(canvas, 0, 0);
      picture.view = { x: view.x, y: view.y, scale: view.scale };
    }
  }
  // Those that are switched on, from below: at first areas, then lines, then points, of each what is coloured above what is not.
  function inOrder() {
    return order.filter(function (k) { return layers[k] && !layers[k].hidden; });
  }
  function dimensionOf(layer) { return layer.shapes && layer.shapes.dimension.length ? layer.shapes.dimension[0] : 2; }
  function putInOrder() {
    if (order.moved) return;
    order = layers.map(function (layer, k) { return k; }).sort(function (a, b) {
      var one = layers[a], other = layers[b];
      return dimensionOf(other) - dimensionOf(one) || (one.coloured ? 1 : 0) - (other.coloured ? 1 : 0) || b - a;
    });
    showLayers();
  }
  // An area without a colour of its own is an outline where another has one.
  function isOutline(layer) {
    return !layer.coloured && inOrder().some(function (k) { return layers[k] !== layer && layers[k].coloured && dimensionOf(layers[k]) === 2; });
  }
  function drawLayer(context, layer, number) {
    if (!layer.shapes) return;
    var unit = place(context, layer.shapes.window);
    dot = [4.5 / unit, 4.5 / Math.abs(context.getTransform().d)];
    if (!layer.paths || layer.unit !== unit) { layer.paths = pathsOf(layer); layer.unit = unit; }
    var many = layer.shapes.starts.length > 20000, outline = isOutline(layer);
    layer.paths.forEach(function (one) {
      var path = one.path, of = one.class, dimension = one.dimension;
      var colour = of === 254 ? 'rgba(150,160,165,0.25)' : of === 255 ? '#c9c9c4' : layer.colours[of] || layer.colours[0];
      context.lineWidth = (dimension === 1 ? 2.2 : many ? 0.3 : 0.8) / unit;
      context.strokeStyle = dimension === 1 ? colour : of === 254 ? 'rgba(150,160,165,0.4)' : dimension === 0 ? '#26323c' : 'rgba(255,255,255,0.9)';
      context.fillStyle = colour;
      if (dimension === 2 && outline) { context.strokeStyle = dark && dark.matches ? '#9fb3ba' : '#55676d'; context.lineWidth = 1 / unit; context.stroke(path); return; }
      if (dimension !== 1) context.fill(path, 'nonzero');
      if (dimension !== 2 || !many) context.stroke(path);
    });
    if (marked.layer === number && marked.rows.size) drawMarked(context, layer, unit);
  }
  function drawMarked(context, layer, unit) {
    var path = new Path2D(), shapes = layer.shapes;
    for (var ring = 0; ring < shapes.starts.length; ring++) if (marked.rows.has(shapes.row[ring] + 1)) addRing(path, shapes, ring);
    context.lineWidth = 4.5 / unit; context.strokeStyle = '#ffffff'; context.stroke(path);
    context.lineWidth = 2.5 / unit; context.strokeStyle = '#c2185b'; context.stroke(path);
  }

  // --- hands and keys -----------------------------------------------------------------------------------------------
  var moving = false, held = null;
  canvas.addEventListener('pointerdown', function (e) {
    held = { x: e.clientX, y: e.clientY, view: view && { x: view.x, y: view.y, scale: view.scale } };
    canvas.setPointerCapture(e.pointerId);
  });
  canvas.addEventListener('pointermove', function (e) {
    if (!held || !held.view) return;
    var dots = canvas.width / canvas.getBoundingClientRect().width, dx = (e.clientX - held.x) * dots, dy = (e.clientY - held.y) * dots;
    if (!moving && Math.abs(dx) + Math.abs(dy) < 4) return;
    moving = true;
    atHome = false;
    view.x = held.view.x - dx * view.scale;
    view.y = held.view.y + dy * view.scale;
    requestAnimationFrame(draw);
  });
  canvas.addEventListener('pointerup', function (e) {
    if (!held) return;
    held = null;
    if (moving) { moving = false; changed(); return; }
    var area = canvas.getBoundingClientRect(), dots = canvas.width / area.width, at = unitsAt((e.clientX - area.left) * dots, (e.clientY - area.top) * dots);
    if (measuring) { addMeasured(at); return; }
    Shiny.setInputValue('click', { x: at[0], y: at[1], reach: 4 * dots * view.scale }, { priority: 'event' });
  });
  function nearer(by, px, py) {
    if (!view) return;
    atHome = false;
    var at = unitsAt(px, py);
    view.scale *= by;
    view.x = at[0] - (px - canvas.width / 2) * view.scale;
    view.y = at[1] + (py - canvas.height / 2) * view.scale;
    moving = true;
    draw();
    moving = false;
    clearTimeout(waiting);
    waiting = setTimeout(changed, 90);
  }
  canvas.addEventListener('wheel', function (e) {
    e.preventDefault();
    var area = canvas.getBoundingClientRect(), dots = canvas.width / area.width;
    nearer(Math.pow(1.0015, e.deltaY), (e.clientX - area.left) * dots, (e.clientY - area.top) * dots);
  }, { passive: false });
  canvas.addEventListener('keydown', function (e) {
    var step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[e.key];
    if (step && view) { atHome = false; view.x += step[0] * view.scale * canvas.width / 6; view.y += step[1] * view.scale * canvas.height / 6; changed(); e.preventDefault(); }
    if (e.key === '+' || e.key === '=') nearer(0.7, canvas.width / 2, canvas.height / 2);
    if (e.key === '-') nearer(1 / 0.7, canvas.width / 2, canvas.height / 2);
    if (e.key === 'Enter' && measuring && view) addMeasured([view.x, view.y]);
    if (e.key === 'Escape' && measuring) measure(false);
  });

  // --- measuring ----------------------------------------------------------------------------------------------------
  // Points that are clicked, or with Enter the middle of the map; lengths and areas are worked out along the ellipsoid by the server.
  var measuring = false, measured = [];
  function measure(on) {
    measuring = on;
    measured = [];
    byId('measure').setAttribute('aria-pressed', on);
    byId('measured').textContent = on ? 'Click two points or more; Escape ends.' : '';
    canvas.classList.toggle('measuring', on);
    draw();
  }
  function addMeasured(at) {
    measured.push(at);
    if (measured.length > 1) Shiny.setInputValue('measure', measured, { priority: 'event' });
    draw();
  }
  function drawMeasured(context) {
    if (!measured.length) return;
    var at = function (p) { return [canvas.width / 2 + (p[0] - view.x) / view.scale, canvas.height / 2 - (p[1] - view.y) / view.scale]; };
    context.setTransform(1, 0, 0, 1, 0, 0);
    context.beginPath();
    measured.forEach(function (p, k) { var q = at(p); if (k) context.lineTo(q[0], q[1]); else context.moveTo(q[0], q[1]); });
    if (measured.length > 2) { context.closePath(); context.fillStyle = 'rgba(194,24,91,0.12)'; context.fill(); }
    context.lineWidth = 4; context.strokeStyle = '#ffffff'; context.stroke();
    context.lineWidth = 2; context.strokeStyle = '#c2185b'; context.stroke();
    measured.forEach(function (p) { var q = at(p); context.beginPath(); context.arc(q[0], q[1], 4, 0, 7); context.fillStyle = '#c2185b'; context.fill(); });
  }
  byId('measure').addEventListener('click', function () { measure(!measuring); });
  byId('nearer').addEventListener('click', function () { nearer(0.7, canvas.width / 2, canvas.height / 2); });
  byId('farther').addEventListener('click', function () { nearer(1 / 0.7, canvas.width / 2, canvas.height / 2); });
  byId('whole').addEventListener('click', function () { home = box; show(box); });
  // A map that nobody moved shows after resizing what it showed before.
  new ResizeObserver(function () {
    var area = canvas.getBoundingClientRect(), dots = window.devicePixelRatio || 1;
    if (!view || (canvas.width === Math.round(area.width * dots) && canvas.height === Math.round(area.height * dots))) return;
    size();
    if (atHome) show(home || box); else changed();
  }).observe(canvas);
  if (dark && dark.addEventListener) dark.addEventListener('change', draw);

  // --- the table ----------------------------------------------------------------------------------------------------
  function element(name, text, className) {
    var made = document.createElement(name);
    if (text !== undefined) made.textContent = text;
    if (className) made.className = className;
    return made;
  }
  function showRows(found) {
    var head = byId('rows').tHead, body = byId('rows').tBodies[0], line = element('tr');
    head.replaceChildren(line);
    found.names.forEach(function (name, k) {
      var cell = element('th', undefined, found.numbers[k] ? 'number' : ''), button = element('button', name);
      cell.scope = 'col';
      button.type = 'button';
      button.tabIndex = -1;
      if (found.sorted === k + 1) cell.setAttribute('aria-sort', found.down ? 'descending' : 'ascending');
      button.addEventListener('click', function () { Shiny.setInputValue('sort', k + 1, { priority: 'event' }); });
      cell.appendChild(button);
      line.appendChild(cell);
    });
    var picked = new Set(found.marked);
    body.replaceChildren.apply(body, found.rows.map(function (row, i) {
      var made = element('tr', undefined, picked.has(row) ? 'marked' : '');
      made.tabIndex = -1;
      made.setAttribute('aria-selected', picked.has(row));
      found.cells.forEach(function (column, k) { made.appendChild(element('td', column[i], found.numbers[k] ? 'number' : '')); });
      var mark = function () { Shiny.setInputValue('mark', row, { priority: 'event' }); };
      made.addEventListener('click', mark);
      made.addEventListener('keydown', function (e) { if (e.key === 'Enter' || e.key === ' ') { e.preventDefault(); mark(); } });
      return made;
    }));
    var count = function (n) { return n.toLocaleString('en'); };
    byId('count').textContent = count(found.total) + (found.total < found.all ? ' of ' + count(found.all) : '') + (found.all === 1 ? ' row' : ' rows');
    byId('place').textContent = found.rows.length ? count(found.from) + ' to ' + count(found.from + found.rows.length - 1) : 'none';
    byId('before').disabled = found.from <= 1;
    byId('after').disabled = found.from + found.rows.length > found.total;
    var first = body.querySelector('.marked'), wide = byId('rows').parentNode;
    if (first) wide.scrollTop = Math.max(0, Math.min(wide.scrollTop, first.offsetTop - 30), first.offsetTop - wide.clientHeight + 30);
    stopAt(first || body.rows[0] || head.querySelector('button'));
  }
  // The table has one stop for the tab key; arrow keys go on from there.
  function stopAt(place, focus) {
    if (!place) return;
    byId('rows').querySelectorAll('[tabindex="0"]').forEach(function (one) { one.tabIndex = -1; });
    place.tabIndex = 0;
    if (focus) place.focus();
  }
  byId('rows').addEventListener('focusin', function (e) { stopAt(e.target); });
  byId('rows').addEventListener('keydown', function (e) {
    var here = document.activeElement, body = byId('rows').tBodies[0], heads = Array.from(byId('rows').tHead.querySelectorAll('button')), k = heads.indexOf(here), next = null;
    var rows = Array.from(body.rows), at = rows.indexOf(here);
    if (k >= 0) next = { ArrowLeft: heads[k - 1], ArrowRight: heads[k + 1], Home: heads[0], End: heads[heads.length - 1], ArrowDown: rows[0] }[e.key];
    else next = { ArrowDown: rows[at + 1], ArrowUp: at > 0 ? rows[at - 1] : heads[0], Home: rows[0], End: rows[rows.length - 1], PageDown: rows[Math.min(at + 10, rows.length - 1)], PageUp: rows[Math.max(at - 10, 0)] }[e.key];
    if (!next) return;
    e.preventDefault();
    stopAt(next, true);
  });
  byId('before').addEventListener('click', function () { Shiny.setInputValue('turn', -1, { priority: 'event' }); });
  byId('after').addEventListener('click', function () { Shiny.setInputValue('turn', 1, { priority: 'event' }); });

  // --- the key ------------------------------------------------------------------------------------------------------
  function showKey() {
    var key = byId('key');
    key.replaceChildren();
    inOrder().reverse().map(function (k) { return layers[k]; }).forEach(function (layer) {
      if (!layer.colours) return;
      var labels = layer.labels.length ? layer.labels : [layer.name];
      if (layer.title) key.appendChild(element('p', layer.title, 'key-title'));
      labels.forEach(function (label, k) {
        var line = element('p'), swatch = element('span', undefined, 'swatch');
        swatch.style.background = layer.colours[k];
        line.appendChild(swatch);
        line.appendChild(document.createTextNode(label));
        key.appendChild(line);
      });
    });
  }

  // --- the list of layers -------------------------------------------------------------------------------------------
  function showLayers() {
    var list = byId('layers').querySelector('ul');
    list.replaceChildren.apply(list, order.slice().reverse().map(function (k, place) {
      var layer = layers[k], line = element('li'), label = element('label'), box = element('input');
      box.type = 'checkbox';
      box.checked = !layer.hidden;
      box.addEventListener('change', function () { layer.hidden = !box.checked; layer.switched = true; showKey(); draw(); });
      label.appendChild(box);
      label.appendChild(document.createTextNode(' ' + layer.name));
      line.appendChild(label);
      if (layers.length > 1) {
        var up = element('button', '\u2191');
        up.type = 'button';
        up.disabled = place === 0;
        up.setAttribute('aria-label', 'Move ' + layer.name + ' up');
        up.addEventListener('click', function () {
          var from = order.indexOf(k);
          order.splice(from, 1);
          order.splice(from + 1, 0, k);
          order.moved = true;
          showLayers();
          showKey();
          draw();
          var again = byId('layers').querySelectorAll('button')[Math.max(0, place - 1)];
          if (again) again.focus();
        });
        line.appendChild(up);
      }
      return line;
    }));
    byId('layers').hidden = layers.length < 2;
  }

  // --- files of one's own -------------------------------------------------------------------------------------------
  // Chosen or dropped, a file is announced first, so that the server makes room for it; then the field sends it. This runs before what the
  // field itself does with a change, as it was bound before.
  var ready = false;
  jQuery('input[type=file]').on('change', function (e) {
    if (ready || !this.files.length) return;
    e.stopImmediatePropagation();
    var said = byId(this.id + '-refused'), most = +document.querySelector('main').dataset.mostBytes, files = Array.from(this.files);
    var large = files.filter(function (file) { return file.size > most; })[0];
    said.textContent = large ? large.name + ' has ' + inWords(large.size) + ', and this page takes files of up to ' + inWords(most) +
      '. Put it into the folder of the page, and open the page anew.' : '';
    if (large) { this.value = ''; return; }
    var bytes = Math.max.apply(null, files.map(function (file) { return file.size; }));
    Shiny.setInputValue('announced', { field: this.id, bytes: bytes }, { priority: 'event' });
  });
  function send(field) {
    ready = true;
    jQuery(field).trigger('change');
    ready = false;
  }
  function inWords(bytes) {
    var power = bytes < 1000 ? 0 : Math.min(4, Math.floor(Math.log10(bytes) / 3));
    return +(bytes / Math.pow(1000, power)).toPrecision(3) + ' ' + ['bytes', 'kB', 'MB', 'GB', 'TB'][power];
  }

  // --- messages -----------------------------------------------------------------------------------------------------
  function listen() {
    var handle = function (name, what) { Shiny.addCustomMessageHandler(name, what); };
    handle('layers', function (found) {
      var names = [].concat(found.names || []);
      var before = new Map(layers.map(function (layer) { return [layer.name, layer]; }));
      layers = names.map(function (name) { return before.get(name) || { name: name }; });
      // What the reader switched stays so.
      layers.forEach(function (layer) { if (!layer.switched) layer.hidden = [].concat(found.hidden || []).indexOf(layer.name) >= 0; });
      order.moved = false;
      putInOrder();
      byId('said').textContent = found.said;
      var old = JSON.stringify(box);
      box = found.box;
      home = found.home;
      size();
      if (box && JSON.stringify(box) !== old) { layers.forEach(function (layer) { layer.shapes = null; }); show(home); } else changed();
    });
    handle('shapes', function (found) {
      fetch(found.url).then(function (answer) { return answer.arrayBuffer(); }).then(function (bytes) {
        var layer = layers[found.layer - 1];
        if (!layer || bytes.byteLength < 40) return;
        layer.shapes = read(bytes);
        layer.paths = null;
        putInOrder();
        fetched++;
        canvas.dataset.fetched = fetched;
        requestAnimationFrame(function () { var began = performance.now(); draw(); canvas.dataset.drawn = performance.now() - began; });
      });
    });
    handle('style', function (found) {
      var layer = layers[found.layer - 1];
      if (!layer) return;
      layer.classes = Uint8Array.from(atob(found.classes.replace(/\n/g, '')), function (c) { return c.charCodeAt(0); });
      layer.colours = [].concat(found.colours);
      layer.labels = [].concat(found.labels || []);
      layer.title = found.title;
      layer.coloured = found.coloured;
      layer.paths = null;
      putInOrder();
      showKey();
      requestAnimationFrame(draw);
    });
    handle('marked', function (found) { marked = { layer: found.layer, rows: new Set([].concat(found.rows || [])) }; requestAnimationFrame(draw); });
    handle('rows', showRows);
    handle('progress', function (done) { if (byId('progress')) byId('progress').value = done; });
    handle('running', function (running) { byId('run').disabled = running; byId('stop').disabled = !running; if (running) byId('progress').value = 0; });
    handle('measured', function (said) { if (measuring) byId('measured').textContent = said; });
    handle('ran', function (done) { ran(done); });
    handle('send', function (field) { send(byId(field)); });
  }
  var wait = setInterval(function () { if (window.Shiny && Shiny.addCustomMessageHandler) { clearInterval(wait); size(); listen(); } }, 10);

  // After a run the answer comes first: on a narrow page above what was asked, and in view.
  var narrow = window.matchMedia('(max-width: 60rem)'), hasRun = false;
  function arrange() {
    var panes = byId('panes');
    if (!panes) return;
    if (hasRun && narrow.matches) panes.prepend(byId('seeing')); else panes.prepend(byId('asking'));
  }
  function ran(done) {
    hasRun = done;
    arrange();
    byId('answer-band').scrollIntoView({ block: 'nearest' });
  }
  narrow.addEventListener('change', arrange);

  // --- the rest -----------------------------------------------------------------------------------------------------
  document.addEventListener('click', function (e) {
    var button = e.target.closest && e.target.closest('button[data-input]');
    if (button) Shiny.setInputValue(button.dataset.input, button.dataset.value, { priority: 'event' });
  });
  document.querySelectorAll('.copy').forEach(function (button) {
    button.addEventListener('click', function () {
      navigator.clipboard.writeText(byId(button.dataset.of).textContent).then(function () { button.textContent = 'Copied'; });
    });
  });
  document.querySelectorAll('form').forEach(function (form) { form.addEventListener('submit', function (e) { e.preventDefault(); }); });
});
