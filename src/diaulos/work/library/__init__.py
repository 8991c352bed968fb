"""Own gear: kept in a library, taken into sessions, two libraries made one."""
