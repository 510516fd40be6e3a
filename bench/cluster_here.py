"""A scheduler and two workers on this machine, until Ctrl-C: `make cluster`."""

import signal
import subprocess
import sys

PORT = 8786
WORKERS = 2


def main() -> None:
    address = f"tcp://127.0.0.1:{PORT}"
    scheduler = [sys.executable, "-m", "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", str(PORT)]
    worker = [sys.executable, "-m", "inkwell_cast.cli", "worker", address, "--threads", "1"]
    started = [subprocess.Popen([*scheduler, "--no-dashboard"], stderr=subprocess.DEVNULL)]
    started += [subprocess.Popen(worker) for _ in range(WORKERS)]
    signal.signal(signal.SIGTERM, signal.default_int_handler)  # as Ctrl-C
    print(f"Give commands --cluster {address}", flush=True)
    try:
        started[0].wait()
    except KeyboardInterrupt:
        pass
    finally:
        for process in started:
            process.terminate()


if __name__ == "__main__":
    main()
