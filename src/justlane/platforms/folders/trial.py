"""The small program that becomes somebody, for good, and tries, a line of JSON [action, path] after the other.

It says `yes`, `no` (the system refused), or `none` (something else stood in the way). Nothing is left behind: what it
makes in a folder has no name, and what it opens for writing is not written to.
"""

TRIAL = """
import errno, json, os, sys

user, group, *groups = map(int, sys.argv[1:])
os.setgroups(groups)
os.setresgid(group, group, group)
os.setresuid(user, user, user)

def attempt(action, path):
    if action == "list":
        os.listdir(path)
    elif action == "enter":
        os.chdir(path)
        os.chdir("/")
    elif action == "change":
        known = os.stat(path)
        if known.st_mode & 0o1000 and known.st_uid != user:
            raise PermissionError(errno.EPERM, "sticky: what belongs to others cannot be removed")
        os.close(os.open(path, os.O_TMPFILE | os.O_RDWR, 0o600))
    elif action == "read":
        os.close(os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW))
    elif action == "write":
        os.close(os.open(path, os.O_WRONLY | os.O_NONBLOCK | os.O_NOFOLLOW | os.O_APPEND))

for line in sys.stdin:
    action, path = json.loads(line)
    try:
        attempt(action, path)
        said = "yes"
    except OSError as error:
        said = "no" if error.errno in (errno.EACCES, errno.EPERM) else "none"
    print(said, flush=True)
"""
"""The program; it uses the standard library alone."""
