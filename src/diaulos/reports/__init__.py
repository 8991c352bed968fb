"""Reports: sheets laid out as PDF, as one HTML file, as CSV; drawings as SVG. No Qt."""
