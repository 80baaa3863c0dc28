"""What a Linux system knows of its own devices, from ``/sys`` and one ioctl; no other tool is needed."""

from ordnung.fieldkit.host.look import look_at_host

__all__ = ["look_at_host"]
