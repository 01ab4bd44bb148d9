"""The estate as one HTML page: `gathered` collects what it shows, `written` puts it into the template."""
