// Where the servers for listening are: on ports of this host, or behind a proxy that tells them apart by a number.
// Each page begins with any of them and goes to the next where one is full or does not answer.

export class Places {
  constructor(path) {
    const { ports, servers } = document.getElementById("listen").dataset;
    const by = ports ? ["port", ports.split(",")] : ["server", servers.split(",")];
    this.urls = by[1].map((one) => {
      const url = new URL(path, location.href);
      url.protocol = url.protocol.replace("http", "ws");
      if (by[0] === "port") url.port = one;
      else if (one) url.searchParams.set("server", one);
      return String(url);
    });
    this.at = Math.floor(Math.random() * this.urls.length);
    this.tried = 0;
  }

  get url() {
    return this.urls[this.at];
  }

  // On to the next; false where all have been tried since one was good.
  next() {
    this.at = (this.at + 1) % this.urls.length;
    this.tried += 1;
    return this.tried < this.urls.length;
  }

  isGood() {
    this.tried = 0;
  }
}
